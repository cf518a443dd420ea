/** Reaching another way those who have not received a notification in time. */
import type { Worker } from '../../platform/jobs/queue.js';
import type { Parts } from './parts.js';
import { SEND_JOB, userDeliveries } from './spreading.js';
import type { NotificationStore } from './store.js';
import { deliveryTable, notificationTable } from './tables.js';

export const FALL_BACK_JOB = 'fall-back';
const LOOK_AGAIN_MS = 15_000;
/** What the job of a notification's fall-back is about; while it is there, the notification is not done. */
export const followUpOf = (id: string) => `${id}:fall-back`;

/**
 * Looks for users of whom no device has reported the notification in the given time since it was sent, and makes
 * deliveries for them by the other way. It comes back until everybody has received it or was reached otherwise.
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
      const { afterMin, way } = sent.fallBack;
      const table = `${environment.db.of(deliveryTable)}`;
      const waiting = `SELECT userId FROM ${table} WHERE notificationId = ? AND way = 'push' AND userId IS NOT NULL GROUP BY userId HAVING SUM(state = 'arrived') = 0`;
      const over = `${waiting} AND SUM(state = 'queued' AND sentAt IS NULL) = 0 AND MAX(COALESCE(sentAt, updatedAt)) <= ?`;
      const gateway = await parts.gateways.openFor(environment, way);
      const notYet = `AND u.id NOT IN (SELECT userId FROM ${table} WHERE notificationId = ? AND way = '${way}' AND userId IS NOT NULL)`;
      const { sql, values } = userDeliveries(
        parts,
        environment,
        { ...sent, content: { ...sent.content, second: undefined } },
        way,
        gateway?.row.name ?? null,
        { sql: '?', values: [new Date(parts.now())] },
        { sql: `u.id IN (${over}) ${notYet}`, values: [id, new Date(parts.now() - afterMin * 60_000), id] },
      );
      const { affectedRows } = await on.change(sql, values);
      if (affectedRows > 0) {
        await parts.jobs.add(on, environment, SEND_JOB, `${id}:${sent.slices}`);
        await on.change(`UPDATE ${environment.db.of(notificationTable)} SET slices = slices + 1 WHERE id = ?`, [id]);
      }
      const [left] = await on.rows<{ count: number }>(
        `SELECT COUNT(*) AS count FROM (${waiting}) AS open WHERE userId NOT IN (SELECT userId FROM ${table} WHERE notificationId = ? AND way = '${way}' AND userId IS NOT NULL)`,
        [id, id],
      );
      return !sent.spread || Number(left?.count ?? 0) > 0;
    });
    void parts.jobs.wake(environment);
    parts.changes.wake(environment.id);
    return open ? later : () => store.finish(environment, id, new Date(parts.now()));
  };
}
