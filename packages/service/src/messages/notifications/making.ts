/** Making notifications: a request becomes a row and its first deliveries. */
import { type Audience, type NewNotification, type Notification, Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { ContentSet } from '@orchard/core/messages';
import { authorOf, type Call, type Environment, environmentOf } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import { answerOnce, idempotencyKey } from '../../platform/http/idempotency.js';
import { UserStore } from '../../people/users/store.js';
import { DeviceStore } from '../devices/store.js';
import { demandFitting, prepareAudience } from './audienceSql.js';
import { demandContent } from './composing.js';
import { begin, scheduleStart, startOf } from './life.js';
import type { Parts } from './parts.js';
import { demandSizes } from './preview.js';
import { listedTargets } from './recipientSql.js';
import { asSent, noNotification, type NotificationRow, NotificationStore } from './store.js';

type SendCall = Pick<Call, 'environment' | 'member' | 'user' | 'holder' | 'trace'> & { body: NewNotification };

/** Sends a notification, schedules it, or keeps it as a draft; once, where the call brings an Idempotency-Key. */
export async function sendNotification(parts: Parts, store: NotificationStore, call: SendCall) {
  const environment = environmentOf(call);
  const { row, content } = await rowFrom(parts, call.body, authorOf(call), call.trace.traceId);
  await demandSendable(parts, environment, call.body, content);
  const key = idempotencyKey(call as Call);
  const answer = await environment.db.transaction(async (on) => {
    const work = async () => ({ body: await write(parts, store, on, environment, row) });
    return key ? answerOnce(on, call as Call, key, new Date(parts.now()), work) : work();
  });
  await afterWriting(parts, store, environment, row.id);
  return answer;
}

/**
 * Replaces one that has not been sent: the old row is deleted and the new one inserted in one transaction. A job that was to
 * start it finds the new one. @throws {Problem} not-found, wrong-state, and what sending throws
 */
export async function rewriteNotification(parts: Parts, store: NotificationStore, call: SendCall & { params: { id: string } }) {
  const environment = environmentOf(call);
  const { id } = call.params;
  const { row, content } = await rowFrom(parts, call.body, authorOf(call), call.trace.traceId);
  await demandSendable(parts, environment, call.body, content);
  const body = await environment.db.transaction(async (on) => {
    const old = await store.sent(environment, id, on, true);
    if (!old) throw noNotification(environment, id);
    demandUnsent(old, 'replaced');
    await store.remove(on, environment, id);
    return write(parts, store, on, environment, { ...row, id, createdAt: old.createdAt });
  });
  await afterWriting(parts, store, environment, id);
  return { body };
}

/**
 * A notification created by the service itself, checked like any other before anything is stored.
 * @returns a function that sends it, with what else belongs into its transaction, and gives its id
 * @throws {Problem} invalid-input, message-too-large; audience-empty by what is returned
 */
export async function prepareNotification(
  parts: Parts,
  environment: Environment,
  wanted: ContentSet & Pick<NewNotification, 'audience'> & Partial<Pick<NewNotification, 'way'>>,
  { createdBy, trace }: { createdBy: string; trace: string | null },
): Promise<(also?: (on: Statements, notification: string) => Promise<void>) => Promise<string>> {
  const store = new NotificationStore();
  const body = { way: 'push', urgency: 'normal', ttlS: 86_400, ...wanted } as NewNotification;
  const { row, content } = await rowFrom(parts, body, createdBy, trace);
  await demandSendable(parts, environment, body, content);
  return async (also) => {
    await environment.db.transaction(async (on) => {
      await also?.(on, row.id);
      await write(parts, store, on, environment, row);
    });
    await afterWriting(parts, store, environment, row.id);
    return row.id;
  };
}

/** Every id named must exist; a misspelt one would silently reach no one. */
async function demandNamed(parts: Parts, environment: Environment, audience: Audience): Promise<void> {
  const wanted = {
    user: audience.users ?? (audience.user ? [audience.user] : []),
    device: audience.devices ?? (audience.device ? [audience.device] : []),
  };
  const known = {
    user: await new UserStore().known(environment, wanted.user),
    device: await new DeviceStore(parts).known(environment, wanted.device),
  };
  for (const kind of ['user', 'device'] as const) {
    const missing = wanted[kind].find((id) => !known[kind].has(id));
    if (missing)
      throw new Problem('not-found', `There is no ${kind} ${missing} in ${environment.app}/${environment.name}. Nothing was sent.`);
  }
}

async function demandSendable(
  parts: Parts,
  environment: Environment,
  body: Pick<NewNotification, 'way' | 'audience'>,
  content: ContentSet,
): Promise<void> {
  demandFitting(body.way, body.audience);
  await prepareAudience(parts, environment, body.audience);
  demandContent(content, body.way);
  await demandNamed(parts, environment, body.audience);
  if (body.way === 'push') await demandSizes(parts, environment, body.audience, content);
}

async function afterWriting(parts: Parts, store: NotificationStore, environment: Environment, id: string): Promise<void> {
  await store.finish(environment, id, new Date(parts.now()));
  parts.changes.wake(environment.id);
  void parts.jobs.wake(environment);
}

/** @throws {Problem} wrong-state */
export function demandUnsent({ state }: Pick<Notification, 'state'>, what: string): void {
  if (state !== 'draft' && state !== 'scheduled')
    throw new Problem('wrong-state', `The notification is ${state}; only a draft or a scheduled one can be ${what}.`);
}

async function write(
  parts: Parts,
  store: NotificationStore,
  on: Statements,
  environment: Environment,
  row: NotificationRow,
): Promise<Notification> {
  await store.insert(on, environment, row);
  if (row.state === 'scheduled') await scheduleStart(parts, on, environment, row.id, row.startAt as Date);
  if (row.state === 'sending') {
    const made = await begin(parts, store, on, environment, asSent(row));
    if (made === 0)
      throw new Problem('audience-empty', `Nobody in ${environment.app}/${environment.name} belongs to this audience. Nothing was sent.`);
  }
  return (await store.find(environment, row.id, on)) as Notification;
}

async function rowFrom(
  parts: Parts,
  body: NewNotification,
  createdBy: string,
  trace: string | null,
): Promise<{ row: NotificationRow; content: ContentSet }> {
  const { audience, way, urgency, ttlS, replaces, start, perSecond, quiet, fallBack, draft, ...content } = body;
  const now = parts.now();
  const startAt = startOf(start, now);
  const state = draft ? 'draft' : startAt > now ? 'scheduled' : 'sending';
  const options = { start, perSecond, quiet, fallBack } as unknown as JsonObject;
  const row: NotificationRow = {
    id: parts.newId(),
    way,
    state,
    content: content as unknown as JsonObject,
    audience: (await withTargets(audience)) as JsonObject,
    urgency,
    ttlS,
    replaces: replaces ?? null,
    options,
    createdBy,
    trace,
    createdAt: new Date(now),
    startAt: start ? new Date(startAt) : null,
    startedAt: null,
    doneAt: null,
    spreadTo: null,
    spread: false,
    slices: 0,
    paceAt: 0,
    changedAt: new Date(now),
  };
  return { row, content: content as ContentSet };
}

/**
 * An audience with its numbers and addresses in normal form.
 * @throws {Problem} invalid-input for an invalid number
 */
async function withTargets({ phones, addresses, ...audience }: Audience): Promise<Audience> {
  if (phones) return { ...audience, phones: await listedTargets('sms', phones) };
  return addresses ? { ...audience, addresses: await listedTargets('mail', addresses) } : audience;
}
