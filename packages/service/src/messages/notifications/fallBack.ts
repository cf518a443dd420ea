/** Fallback: another way for recipients who have not received a notification in time. */
import type { Worker } from '../../platform/jobs/queue.js';
import type { Parts } from './parts.js';
import { countWaiting, spreadFallBack } from './fallBackStore.js';
import { SEND_JOB } from './spreadStore.js';
import type { NotificationStore } from './store.js';

export const FALL_BACK_JOB = 'fall-back';
const LOOK_AGAIN_MS = 15_000;
/** The subject of the job of a notification's fallback; while the job exists, the notification is not done. */
export const followUpOf = (id: string) => `${id}:fall-back`;

/**
 * Finds users with no device that reported the notification within the given time, and creates deliveries for them by the
 * other way. It repeats until every user has received it or has such a delivery.
 */
export function fallBackWorker(parts: Parts, store: NotificationStore): Worker {
  return async (job) => {
    const id = job.subject.split(':')[0] as string;
    const environment = await parts.directory.environmentById(job.environmentId);
    if (!environment) return null;
    const later = new Date(parts.now() + LOOK_AGAIN_MS);
    const open = await environment.db.transaction(async (on) => {
      const sent = await store.sent(environment, id, on, true);
      if (!sent?.fallBack || sent.state === 'stopped' || sent.state === 'done') return false;
      const made = await spreadFallBack(parts, on, environment, sent, sent.fallBack);
      if (made > 0) await parts.jobs.add(on, environment, SEND_JOB, `${id}:${sent.slices}`);
      return !sent.spread || (await countWaiting(on, environment, id, sent.fallBack.way)) > 0;
    });
    void parts.jobs.wake(environment);
    parts.changes.wake(environment.id);
    return open ? later : () => store.finish(environment, id, new Date(parts.now()));
  };
}
