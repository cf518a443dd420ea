/** Sends the deliveries of a notification: one job for each slice. */
import { setTimeout as sleep } from 'node:timers/promises';
import type { DeliveryState, Way } from '@orchard/contract';
import { backOffMs, grouped, type JsonObject, own } from '@orchard/core';
import { MissingValue, type NotificationContent } from '@orchard/core/messages';
import { storedJson } from '../../platform/database/storedJson.js';
import type { OpenGateway } from '../gateways/gatewayDirectory.js';
import { exchangeDetails, problemOf, statusOf } from '../gateways/exchange.js';
import { HELD_MS } from '../gateways/refusals.js';
import type { Outcome } from '../gateways/sender.js';
import type { Environment } from '../../platform/call.js';
import type { Lease, Worker } from '../../platform/jobs/queue.js';
import { DeviceStore, type GoneDevice } from '../devices/store.js';
import type { Parts } from './parts.js';
import { Composer } from './composing.js';
import { ResultWriter } from './results.js';
import type { DeliveryResult, DueDelivery } from './deliveryStore.js';
import type { NotificationStore, SentNotification } from './store.js';

const BATCH = 500;
/** With a pace, a batch is what may go in this time. */
const PACE_STEP_MS = 250;
/** How long results are gathered to be written together; receipts of short messages that are quick are written with them. */
const GATHER_MS: Record<Way, number> = { push: 100, sms: 300, mail: 100 };
const MAX_ATTEMPTS = 10;
const NOTE_EVERY_MS = 1_000;
const RENEW_EVERY_MS = 5_000;
/** The longest wait that a network may ask for: a day. */
const LONGEST_WAIT_MS = 86_400_000;

/** One slice of deliveries in flight. */
type Run = {
  parts: Parts;
  store: NotificationStore;
  environment: Environment;
  sent: SentNotification;
  /** When it was sent, as messages say it. */
  sentAt: string;
  /** The way of its deliveries: that of the notification, or of its fallback. */
  way: Way;
  composer: Composer;
  writer: ResultWriter;
  gateways: Map<string, Promise<OpenGateway | null>>;
};

/** Works on one slice until none of it is due, the notification is stopped, or the service stops. */
export function sendingWorker(parts: Parts, store: NotificationStore): Worker {
  return async (job, lease) => {
    const [id = '', slice = '0'] = job.subject.split(':');
    const environment = await parts.directory.environmentById(job.environmentId);
    const sent = environment && (await store.sent(environment, id));
    if (!environment || !sent) return null;
    if (sent.state !== 'sending') return null;
    const run = beginRun(parts, store, environment, sent, await store.deliveries.wayOf(environment, id, Number(slice)));
    let sentSome = true;
    while (sentSome && !lease.stopping()) sentSome = await sendDue(run, Number(slice), lease);
    const next = await store.deliveries.nextDue(environment, id, Number(slice));
    if (next && !lease.stopping()) {
      const now = await store.sent(environment, id);
      if (now?.state !== 'sending') return null;
    }
    if (next) return next;
    return async () => {
      await store.finish(environment, id, new Date(parts.now()));
      parts.changes.wake(environment.id);
    };
  };
}

function beginRun(parts: Parts, store: NotificationStore, environment: Environment, sent: SentNotification, way: Way): Run {
  let notedAt = 0;
  const writer = new ResultWriter(GATHER_MS[way], async (results) => {
    const now = parts.now();
    parts.journal.seal(results);
    await store.deliveries.saveResults(environment, sent.id, results, new Date(now));
    parts.journal.written(results);
    if (now - notedAt > NOTE_EVERY_MS) {
      notedAt = now;
      await store.noteChange(environment, sent.id, new Date(now));
    }
    parts.changes.wake(environment.id);
  });
  return {
    parts,
    store,
    environment,
    sent,
    sentAt: sent.createdAt.toISOString(),
    way,
    composer: new Composer(sent.content),
    writer,
    gateways: new Map(),
  };
}

/** One pass over what is due: the next batch is fetched while one is sent. @returns whether anything was sent */
async function sendDue(run: Run, slice: number, lease: Lease): Promise<boolean> {
  const { parts, store, environment, sent, composer, writer } = run;
  const now = new Date(parts.now());
  const size = sent.perSecond ? Math.max(1, Math.min(BATCH, Math.round((sent.perSecond * PACE_STEP_MS) / 1000))) : BATCH;
  const from = { id: sent.id, slice, way: run.way, personal: composer.personal.personal, withUsers: composer.personal.user };
  const fetch = (after: DueDelivery | undefined) => store.deliveries.due(environment, from, now, size, after ?? null);
  let some = false;
  let renewedAt = parts.now();
  try {
    let batch = await fetch(undefined);
    while (batch.length > 0 && !lease.stopping()) {
      some = true;
      // With a pace, the notification may be stopped while a batch waits its turn.
      if (sent.perSecond) {
        await waitForTurn(run, batch.length, sent.perSecond, lease);
        if ((await store.sent(environment, sent.id))?.state !== 'sending') return false;
        await sendBatch(run, batch);
        batch = await fetch(batch.at(-1));
        continue;
      }
      const next = batch.length === size ? fetch(batch.at(-1)) : Promise.resolve([]);
      next.catch(() => undefined);
      await sendBatch(run, batch);
      batch = await next;
      // The queue renews the lease; here only its loss must be noticed.
      if (parts.now() - renewedAt < RENEW_EVERY_MS) continue;
      renewedAt = parts.now();
      if (!(await lease.renew())) return false;
    }
  } finally {
    await writer.drained();
  }
  return some;
}

async function waitForTurn({ parts, store, environment, sent }: Run, messages: number, perSecond: number, lease: Lease): Promise<void> {
  const turn = await store.reserve(environment, sent.id, messages, perSecond, parts.now());
  while (turn > parts.now() && !lease.stopping()) await sleep(Math.min(turn - parts.now(), 500));
}

/** Sends a batch, with each gateway's number of messages in flight. */
async function sendBatch(run: Run, batch: DueDelivery[]): Promise<void> {
  const gone: GoneDevice[] = [];
  const badged: string[] = [];
  const byGateway = grouped(batch, ({ gateway }) => gateway ?? '');
  await Promise.all(
    [...byGateway].map(async ([name, deliveries]) => {
      const gateway = await gatewayOf(run, name);
      await inPool(
        deliveries,
        () => gateway?.sender.atOnce ?? 1,
        async (delivery) => {
          const result = await attempt(run, gateway, delivery, gone, badged);
          run.parts.journal.note(run.environment.id, run.sent.id, result, name);
          const full = run.writer.add(result);
          if (full) await full;
        },
      );
    }),
  );
  const now = new Date(run.parts.now());
  const devices = new DeviceStore(run.parts);
  await devices.retire(run.environment, gone, now);
  await devices.addBadges(run.environment, badged);
}

function gatewayOf({ parts, environment, gateways }: Run, name: string): Promise<OpenGateway | null> {
  let gateway = gateways.get(name);
  if (!gateway) {
    gateway = parts.gateways.open(environment, name);
    gateways.set(name, gateway);
  }
  return gateway;
}

/** Runs work over items, so many at a time as `width` says at the moment. */
function inPool<Item>(items: readonly Item[], width: () => number, work: (item: Item) => Promise<void>): Promise<void> {
  let [next, busy] = [0, 0];
  return new Promise((resolve, reject) => {
    const ended = () => {
      busy--;
      if (next < items.length) fill();
      else if (busy === 0) resolve();
    };
    const fill = () => {
      for (; busy < width() && next < items.length; busy++) work(items[next++] as Item).then(ended, reject);
    };
    if (items.length === 0) resolve();
    fill();
  });
}

async function attempt(
  run: Run,
  gateway: OpenGateway | null,
  delivery: DueDelivery,
  gone: GoneDevice[],
  badged: string[],
): Promise<DeliveryResult> {
  const { parts, sent } = run;
  const now = parts.now();
  const result: DeliveryResult = {
    target: delivery.target,
    state: 'failed',
    reason: null,
    attempts: delivery.attempts,
    answer: null,
    said: null,
    messageId: null,
    receiptId: null,
    segments: null,
    nextAttemptAt: null,
    sentAt: delivery.sentAt,
    receivedAt: null,
  };
  const ended = (state: DeliveryState, reason: string): DeliveryResult => {
    result.state = state;
    result.reason = reason;
    return result;
  };
  const obstacle = obstacleOf(delivery, gateway);
  if (obstacle) return ended(delivery.optedOut ? 'skipped' : 'failed', obstacle);
  const firstAt = delivery.sentAt?.getTime() ?? now;
  const expiresAt = firstAt + sent.ttlS * 1000;
  // A TTL of 0 means "now or never", so the first attempt is always made (RFC 8030 section 5.2).
  if (delivery.attempts > 0 && now >= expiresAt)
    return ended('expired', `It expired after ${delivery.attempts} attempts. ${delivery.reason ?? ''}`.trim());
  const { row, sender } = gateway as OpenGateway;
  const held = parts.refusals.heldBy(row);
  if (held) {
    parts.ports.countWork(run.environment, { kind: 'gateway', name: row.name, failed: true, durationUs: 0 });
    return waiting(result, held.words, held.until);
  }
  let content: NotificationContent;
  try {
    content = contentOf(run, delivery);
  } catch (error) {
    if (error instanceof MissingValue) return ended('failed', `The template cannot be filled in: ${error.message}`);
    throw error;
  }
  const began = performance.now();
  const outcome = await sender.send({
    notification: { id: sent.id, sentAt: run.sentAt, urgency: sent.urgency, replaces: sent.replaces, expiresAt },
    content,
    overlay: delivery.gateway && sent.content.overlays ? own(sent.content.overlays, delivery.gateway) : undefined,
    target: delivery,
    ttlS: Math.max(0, Math.round((expiresAt - now) / 1000)),
    attempt: delivery.attempts + 1,
  });
  noteExchange(run, row, delivery, outcome, (performance.now() - began) * 1000);
  if (outcome.kind === 'later' && outcome.credentials) {
    await parts.refusals.note(run.environment, row, outcome.reason);
    return waiting(result, outcome.reason, now + HELD_MS);
  }
  if (outcome.kind === 'accepted' && row.refusedAt) await parts.refusals.clear(run.environment, row);
  if (outcome.kind === 'gone' && delivery.deviceId)
    gone.push({
      deviceId: delivery.deviceId,
      endpoint: delivery.endpoint ?? null,
      token: delivery.token ?? null,
      reason: outcome.reason,
    });
  if (outcome.kind === 'accepted' && content.badge === '+1' && delivery.deviceId) badged.push(delivery.deviceId);
  result.attempts++;
  result.sentAt ??= new Date(firstAt);
  return noteOutcome(result, outcome, parts);
}

/** Counts the exchange with the network, and keeps it where it is wanted. */
function noteExchange(
  { parts, environment, sent }: Run,
  row: OpenGateway['row'],
  delivery: DueDelivery,
  outcome: Outcome,
  durationUs: number,
): void {
  const isRefused = outcome.kind !== 'accepted' && outcome.kind !== 'gone';
  const { exchange } = outcome;
  const details = () => exchangeDetails(row, outcome, exchange, delivery);
  const reason = outcome.kind === 'accepted' ? null : outcome.reason;
  parts.ports.recordExchange(environment, {
    gateway: row.name,
    failed: isRefused,
    durationUs,
    status: statusOf(outcome, exchange !== undefined || delivery.way === 'push'),
    problem: problemOf(outcome),
    reason,
    trace: sent.trace,
    deviceId: delivery.deviceId ?? null,
    details,
  });
  const source = `gateway ${row.name}`;
  const trace = sent.trace ?? undefined;
  const fields = { notification: sent.id, target: delivery.target, answer: outcome.answer, attempt: delivery.attempts + 1 };
  if (isRefused) parts.ports.logEntry(environment, { level: 'warning', source, text: reason as string, fields, trace });
  // Only where the level of this source is raised.
  const text = isRefused ? 'The exchange with the network' : (reason ?? 'Accepted');
  parts.ports.logEntry(environment, { level: 'debug', source, text, fields: () => ({ ...fields, exchange: details() }), trace });
}

/** A delivery that waits for its gateway: that does not count as an attempt. */
function waiting(result: DeliveryResult, reason: string, until: number): DeliveryResult {
  result.state = 'queued';
  result.reason = reason;
  result.nextAttemptAt = new Date(until);
  return result;
}

/** Why a queued delivery can no longer go out; null when it can. */
function obstacleOf(delivery: DueDelivery, gateway: OpenGateway | null): string | null {
  if (delivery.optedOut) return 'The recipient has opted out.';
  if (delivery.way === 'push') {
    if (!delivery.deviceId || delivery.retiredAt) return 'The device was retired before it could be reached.';
    if (!delivery.endpoint && !delivery.token) return 'The device has no address any more.';
    // A phone with a new user must not show what was meant for the former one.
    if (delivery.deliveryUserId && delivery.deviceUserId && delivery.deliveryUserId !== delivery.deviceUserId)
      return 'The device belongs to another user now.';
  }
  return gateway ? null : `The gateway ${delivery.gateway} no longer exists.`;
}

function contentOf({ composer, sent }: Run, delivery: DueDelivery): NotificationContent {
  const content = composer.contentOf(delivery, () => valuesOf(delivery));
  const isFallBack = sent.fallBack && delivery.way === sent.fallBack.way && sent.way === 'push';
  return isFallBack && sent.fallBack?.body ? { ...content, body: sent.fallBack.body } : content;
}

/** What templates may name besides the notification's own data. */
function valuesOf(delivery: DueDelivery): JsonObject {
  const {
    userName,
    userEmail,
    userData,
    platform,
    locale,
    timeZone,
    model = null,
    os = null,
    appVersion = null,
    country = null,
  } = delivery;
  return {
    user: {
      id: delivery.deliveryUserId,
      name: userName ?? null,
      email: userEmail ?? null,
      data: userData ? (storedJson(userData) as JsonObject) : null,
    },
    device: { id: delivery.target, platform, locale, timeZone, model, os, appVersion, country },
  };
}

function noteOutcome(result: DeliveryResult, outcome: Outcome, parts: Parts): DeliveryResult {
  result.answer = outcome.answer;
  result.said = outcome.said ?? null;
  result.messageId = outcome.messageId ?? null;
  result.receiptId = outcome.receiptId ?? null;
  result.segments = outcome.segments ?? null;
  if (outcome.kind === 'accepted') result.state = 'accepted';
  else if (outcome.kind !== 'later') result.reason = outcome.reason;
  else if (result.attempts >= MAX_ATTEMPTS) result.reason = `Given up after ${result.attempts} attempts. ${outcome.reason}`;
  else {
    const wait = Math.min(outcome.afterMs ?? backOffMs(result.attempts, (parts.random(1)[0] as number) / 256), LONGEST_WAIT_MS);
    result.state = 'queued';
    result.reason = outcome.reason;
    result.nextAttemptAt = new Date(parts.now() + wait);
  }
  return result;
}

/** Writes what the previous run had sent but not yet written. Before any job is taken. */
export async function writeLeftResults(parts: Parts, store: NotificationStore): Promise<void> {
  const byNotification = grouped(parts.journal.left, ({ environmentId, notification }) => `${environmentId} ${notification}`);
  for (const entries of byNotification.values()) {
    const [{ environmentId, notification }] = entries as [(typeof entries)[number]];
    const environment = await parts.directory.environmentById(environmentId);
    if (environment)
      await store.deliveries.saveResults(
        environment,
        notification,
        entries.map(({ result }) => result),
        new Date(parts.now()),
      );
  }
  parts.journal.written([]);
}
