/** Reports of devices on notifications: received, opened. */
import type { Environment } from '../../platform/call.js';
import { deliveryTable, notificationTable } from './tables.js';

export type Report = { notification: string; event: 'received' | 'opened'; at?: string | undefined; button?: string | undefined };

export class ReportStore {
  /**
   * Notes reports of a device: a report of receipt overrides what the network said. An opened one was received. One that was
   * never sent to the device cannot have arrived.
   * @returns how many reports were new
   */
  async note(environment: Environment, deviceId: string, reports: readonly Report[], now: Date): Promise<number> {
    let noted = 0;
    await environment.db.transaction(async (on) => {
      noted = 0;
      for (const { notification, event, at, button = null } of reports) {
        // A device's clock may be ahead.
        const when = at && Date.parse(at) < now.getTime() ? new Date(at) : now;
        const opened = event === 'opened' ? when : null;
        const { affectedRows } = await on.change(
          `UPDATE ${environment.db.of(deliveryTable)} SET state = 'arrived', reason = NULL, nextAttemptAt = NULL, receivedAt = COALESCE(receivedAt, ?), openedAt = COALESCE(openedAt, ?), button = COALESCE(button, ?), updatedAt = ?
           WHERE notificationId = ? AND target = ? AND state <> 'skipped' AND (receivedAt IS NULL OR (openedAt IS NULL AND ? IS NOT NULL))`,
          [when, opened, opened && button, now, notification, deviceId, opened],
        );
        noted += affectedRows;
        if (affectedRows > 0)
          await on.change(`UPDATE ${environment.db.of(notificationTable)} SET changedAt = ? WHERE id = ?`, [now, notification]);
      }
    });
    return noted;
  }
}
