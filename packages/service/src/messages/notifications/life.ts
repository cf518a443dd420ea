/** The states of a notification: draft, scheduled, sending, done, stopped. */
import { type Notification, Problem } from '@orchard/contract';
import { instantOf } from '@orchard/core/messages';
import type { Statements } from '../../platform/database/connection.js';
import type { Environment } from '../../platform/call.js';
import type { Worker } from '../../platform/jobs/queue.js';
import { prepareAudience } from './audienceSql.js';
import type { Parts } from './parts.js';
import { FALL_BACK_JOB, followUpOf } from './fallBack.js';
import { SEND_JOB, SPREAD_JOB, spreadNext } from './spreadStore.js';
import { noNotification, type NotificationStore, type SentNotification } from './store.js';

export const START_JOB = 'start-notification';
/** The zones whose clocks are furthest ahead and behind. */
const FIRST_ZONE = 'Pacific/Kiritimati';
const LAST_ZONE = 'Pacific/Pago_Pago';
/** A time that has just passed means now. */
const GRACE_MS = 60_000;

/**
 * When sending begins: now, at an instant, or when a wall-clock time is first reached in some zone.
 * @throws {Problem} invalid-input for the past
 */
export function startOf(start: SentNotification['start'], now: number): number {
  if (!start) return now;
  const refuse = (path: string, problem: string) => {
    throw new Problem('invalid-input', problem, { fields: [{ path, problem, expected: 'a future time, or no `start` to send at once' }] });
  };
  if ('at' in start) {
    const at = Date.parse(start.at);
    if (at < now - GRACE_MS) refuse('body.start.at', `${start.at} is in the past.`);
    return Math.max(at, now);
  }
  const wall = Date.parse(`${start.local}Z`);
  if (instantOf(wall, LAST_ZONE) < now) refuse('body.start.local', `${start.local} is in the past in every time zone.`);
  return Math.max(instantOf(wall, FIRST_ZONE), now);
}

/**
 * Begins sending within a transaction: creates the first deliveries at once, the rest by a job.
 * @returns how many were created
 */
export async function begin(
  parts: Parts,
  store: NotificationStore,
  on: Statements,
  environment: Environment,
  sent: SentNotification,
): Promise<number> {
  const now = new Date(parts.now());
  await store.changeState(on, environment, sent.id, { state: 'sending', startedAt: now });
  sent.state = 'sending';
  const { made, through } = await spreadNext(parts, on, environment, sent);
  if (!through) await addJob(parts, on, environment, SPREAD_JOB, sent.id, now);
  if (sent.fallBack)
    await addJob(parts, on, environment, FALL_BACK_JOB, followUpOf(sent.id), new Date(now.getTime() + sent.fallBack.afterMin * 60_000));
  return made;
}

async function addJob(parts: Parts, on: Statements, environment: Environment, kind: string, subject: string, at: Date): Promise<void> {
  await parts.jobs.add(on, environment, kind, subject, at);
}

export function scheduleStart(parts: Parts, on: Statements, environment: Environment, id: string, at: Date): Promise<void> {
  return addJob(parts, on, environment, START_JOB, id, at);
}

/** Outside the transaction that uses it: counting people takes a while. */
async function prepareSent(parts: Parts, store: NotificationStore, environment: Environment, id: string): Promise<void> {
  const sent = await store.sent(environment, id);
  if (sent) await prepareAudience(parts, environment, sent.audience);
}

/** Starts a scheduled notification whose time has come. */
export function startWorker(parts: Parts, store: NotificationStore): Worker {
  return async (job) => {
    const environment = await parts.directory.environmentById(job.environmentId);
    if (!environment) return null;
    await prepareSent(parts, store, environment, job.subject);
    await environment.db.transaction(async (on) => {
      const sent = await store.sent(environment, job.subject, on, true);
      // It may have been rescheduled since this job was taken; that moved the job as well.
      if (sent?.state === 'scheduled' && (sent.startAt?.getTime() ?? 0) <= parts.now()) await begin(parts, store, on, environment, sent);
    });
    await store.finish(environment, job.subject, new Date(parts.now()));
    parts.changes.wake(environment.id);
    void parts.jobs.wake(environment);
    return null;
  };
}

/** Creates the deliveries of a large audience, slice by slice. */
export function spreadWorker(parts: Parts, store: NotificationStore): Worker {
  return async (job, lease) => {
    const environment = await parts.directory.environmentById(job.environmentId);
    if (!environment) return null;
    await prepareSent(parts, store, environment, job.subject);
    for (;;) {
      if (lease.stopping()) return new Date(parts.now());
      const through = await environment.db.transaction(async (on) => {
        const sent = await store.sent(environment, job.subject, on, true);
        return sent?.state !== 'sending' || sent.spread || (await spreadNext(parts, on, environment, sent)).through;
      });
      void parts.jobs.wake(environment);
      parts.changes.wake(environment.id);
      if (through) break;
      if (!(await lease.renew())) return null;
    }
    await store.finish(environment, job.subject, new Date(parts.now()));
    return null;
  };
}

type Verb = 'start' | 'stop' | 'resume';
const FROM: Record<Verb, Notification['state'][]> = { start: ['draft', 'scheduled'], stop: ['scheduled', 'sending'], resume: ['stopped'] };

/** Turns a notification from one state into another. @throws {Problem} wrong-state, not-found */
export async function turn(parts: Parts, store: NotificationStore, environment: Environment, id: string, verb: Verb): Promise<void> {
  if (verb !== 'stop') await prepareSent(parts, store, environment, id);
  await environment.db.transaction(async (on) => {
    const sent = await store.sent(environment, id, on, true);
    if (!sent) throw noNotification(environment, id);
    if (!FROM[verb].includes(sent.state))
      throw new Problem(
        'wrong-state',
        `The notification is ${sent.state}; only one that is ${FROM[verb].join(' or ')} can be ${{ start: 'started', stop: 'stopped', resume: 'resumed' }[verb]}.`,
      );
    if (verb === 'stop') return store.changeState(on, environment, id, { state: 'stopped' });
    if (verb === 'start' || sent.slices === 0) return void (await begin(parts, store, on, environment, sent));
    await store.changeState(on, environment, id, { state: 'sending' });
    const now = new Date(parts.now());
    for (const slice of await store.deliveries.openSlices(on, environment, id))
      await addJob(parts, on, environment, SEND_JOB, `${id}:${slice}`, now);
    if (!sent.spread) await addJob(parts, on, environment, SPREAD_JOB, id, now);
    if (sent.fallBack) await addJob(parts, on, environment, FALL_BACK_JOB, followUpOf(id), now);
  });
  // Another instance may hold jobs of it; they check the state before they continue.
  if (verb !== 'stop') await store.finish(environment, id, new Date(parts.now()));
  parts.changes.wake(environment.id);
  void parts.jobs.wake(environment);
}

/** An instance that ended between its last job and this step leaves a notification without a job. */
export async function finishLeftBehind(parts: Parts, store: NotificationStore, environment: Environment): Promise<void> {
  for (const id of await store.sending(environment)) await store.finish(environment, id, new Date(parts.now()));
}
