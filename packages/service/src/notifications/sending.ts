/** Sending the deliveries of a notification: the work of a job. */
import { composeMessage, type NotificationContent, backOffMs } from '@orchard/core';
import type { Notification } from '@orchard/contract';
import type { PushOutcome } from '../gateways/webPush.js';
import type { Environment } from '../http/call.js';
import type { Worker } from '../jobs/queue.js';
import type { Parts } from '../parts.js';
import type { DeliveryResult, DueDelivery, NotificationStore } from './store.js';

export const SEND_JOB = 'send-notification';
const BATCH = 250;
const MAX_ATTEMPTS = 10;
/** A network may ask for patience, but not for more than a day. */
const LONGEST_WAIT_MS = 86_400_000;

type Gone = { deviceId: string; endpoint: string; reason: string };

/** Sends what is due in batches, until nothing is left or the service stops. Attempts and results are rows at all times. */
export function sendingWorker(parts: Parts, store: NotificationStore): Worker {
  return async (job, lease) => {
    const environment = await parts.directory.environmentById(job.environmentId);
    const notification = environment && (await store.find(environment, job.subject));
    if (!environment || !notification) return null;
    const message = messageOf(notification);
    let due = await store.due(environment, notification.id, new Date(parts.now()), BATCH);
    while (due.length > 0 && !lease.stopping()) {
      const gone: Gone[] = [];
      const results = await Promise.all(due.map((delivery) => attempt(parts, environment, notification, message, delivery, gone)));
      const now = new Date(parts.now());
      await store.saveResults(environment, notification.id, results, now);
      await store.retire(environment, gone, now);
      parts.changes.wake(environment.id);
      if (!(await lease.renew())) return null;
      due = await store.due(environment, notification.id, now, BATCH);
    }
    return store.nextDue(environment, notification.id);
  };
}

function messageOf(notification: Notification): Uint8Array {
  const { title, body, badge, sound, link, data } = notification;
  return composeMessage(notification.id, notification.createdAt, { title, body, badge, sound, link, data } satisfies NotificationContent);
}

async function attempt(
  parts: Parts,
  environment: Environment,
  notification: Notification,
  message: Uint8Array,
  delivery: DueDelivery,
  gone: Gone[],
): Promise<DeliveryResult> {
  const base = { deviceId: delivery.deviceId, attempts: delivery.attempts, answer: null, nextAttemptAt: null };
  const { endpoint, p256dh, auth } = delivery;
  if (delivery.retired || !endpoint || !p256dh || !auth)
    return { ...base, state: 'failed', reason: 'The device was retired before it could be reached.' };
  const expiresAt = Date.parse(notification.createdAt) + notification.ttlS * 1000;
  // A TTL of 0 means «now or never», so the first attempt is always made (RFC 8030 section 5.2).
  if (delivery.attempts > 0 && parts.now() >= expiresAt)
    return { ...base, state: 'failed', reason: `It expired after ${delivery.attempts} attempts.` };
  const ttlS = Math.max(0, Math.round((expiresAt - parts.now()) / 1000));
  const outcome = await parts.webPush.send(environment.id, { endpoint, p256dh, auth }, message, {
    ttlS,
    urgency: notification.urgency,
    replaces: notification.replaces,
  });
  if (outcome.kind === 'gone') gone.push({ deviceId: delivery.deviceId, endpoint, reason: outcome.reason });
  return resultOf(outcome, { ...base, attempts: delivery.attempts + 1 }, parts);
}

function resultOf(outcome: PushOutcome, base: Omit<DeliveryResult, 'state' | 'reason'>, parts: Parts): DeliveryResult {
  const { answer } = outcome;
  switch (outcome.kind) {
    case 'accepted':
      return { ...base, answer, state: 'sent', reason: null };
    case 'gone':
    case 'refused':
      return { ...base, answer, state: 'failed', reason: outcome.reason };
    case 'later': {
      if (base.attempts >= MAX_ATTEMPTS)
        return { ...base, answer, state: 'failed', reason: `Given up after ${base.attempts} attempts. ${outcome.reason}` };
      const wait = Math.min(outcome.afterMs ?? backOffMs(base.attempts, (parts.random(1)[0] as number) / 256), LONGEST_WAIT_MS);
      return { ...base, answer, state: 'queued', reason: outcome.reason, nextAttemptAt: new Date(parts.now() + wait) };
    }
  }
}
