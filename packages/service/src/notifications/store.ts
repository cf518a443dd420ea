/** Notifications and their deliveries, as rows. */
import type { Audience, Delivery, Notification } from '@orchard/contract';
import type { NotificationContent } from '@orchard/core';
import type { RowDataPacket } from 'mysql2/promise';
import type { Database } from '../database/connection.js';
import type { tablesOf } from '../database/environmentTables.js';
import { type Columns, cutPage, type ListGround, type ListRequest, planList } from '../database/listing.js';
import type { Environment } from '../http/call.js';

export type NotificationRow = ReturnType<typeof tablesOf>['notifications']['$inferSelect'];
export type DueDelivery = {
  deviceId: string;
  attempts: number;
  endpoint: string | null;
  p256dh: string | null;
  auth: string | null;
  retired: number;
};
/** The new state of one delivery. */
export type DeliveryResult = {
  deviceId: string;
  state: 'queued' | 'sent' | 'failed' | 'skipped';
  reason: string | null;
  attempts: number;
  answer: number | null;
  nextAttemptAt: Date | null;
};

const COLUMNS: Columns = new Map([
  ['id', { sql: 'id', kind: 'text' }],
  ['createdAt', { sql: 'createdAt', kind: 'time' }],
  ['createdBy', { sql: 'createdBy', kind: 'text' }],
  ['urgency', { sql: 'urgency', kind: 'text' }],
]);
const DELIVERY_COLUMNS: Columns = new Map([
  ['deviceId', { sql: 'd.deviceId', kind: 'text' }],
  ['state', { sql: 'd.state', kind: 'text' }],
  ['reason', { sql: 'd.reason', kind: 'text' }],
  ['attempts', { sql: 'd.attempts', kind: 'number' }],
  ['answer', { sql: 'd.answer', kind: 'number' }],
  ['updatedAt', { sql: 'd.updatedAt', kind: 'time' }],
  ['platform', { sql: 'v.platform', kind: 'text' }],
  ['userId', { sql: 'v.userId', kind: 'text' }],
]);

/** Whom an audience means, as a condition on devices. */
function audienceSql(audience: Audience): { sql: string; values: unknown[] } {
  if ('user' in audience) return { sql: 'userId = ?', values: [audience.user] };
  if ('device' in audience) return { sql: 'id = ?', values: [audience.device] };
  return { sql: 'retiredAt IS NULL', values: [] };
}

export class NotificationStore {
  constructor(private readonly database: Database) {}

  /** Stores the notification, one delivery for each device of its audience, and the job that sends them: all or nothing. */
  insert(environment: Environment, row: NotificationRow, job: { sql: string; values: unknown[] }): Promise<void> {
    const audience = audienceSql(row.audience as Audience);
    return this.database.withConnection(async (connection) => {
      await connection.beginTransaction();
      try {
        await connection.query(`INSERT INTO \`${environment.database}\`._notifications SET ?`, [
          { ...row, content: JSON.stringify(row.content), audience: JSON.stringify(row.audience) },
        ]);
        await connection.query(
          `INSERT INTO \`${environment.database}\`._deliveries (notificationId, deviceId, state, reason, attempts, nextAttemptAt, updatedAt)
           SELECT ?, id, IF(why IS NULL, 'queued', 'skipped'), why, 0, IF(why IS NULL, ?, NULL), ? FROM (
             SELECT id, CASE WHEN retiredAt IS NOT NULL THEN 'The device is retired.'
               WHEN permission = 'denied' THEN 'The person does not allow notifications.' WHEN permission = 'unasked' THEN 'The person has not been asked to allow notifications.'
               WHEN endpoint IS NULL THEN 'The device has sent no push subscription.' END AS why
             FROM \`${environment.database}\`._devices WHERE ${audience.sql}) AS addressed`,
          [row.id, row.createdAt, row.createdAt, ...audience.values],
        );
        await connection.query(job.sql, job.values);
        await connection.commit();
      } catch (error) {
        await connection.rollback().catch(() => undefined);
        throw error;
      }
    });
  }

  async find(environment: Environment, id: string): Promise<Notification | null> {
    const rows = await this.database.rows<NotificationRow>(`SELECT * FROM \`${environment.database}\`._notifications WHERE id = ?`, [id]);
    return (await this.#withCounts(environment, rows))[0] ?? null;
  }

  async list(environment: Environment, request: ListRequest, ground: ListGround) {
    const plan = planList(COLUMNS, { ...request, sort: request.sort || '-id' }, { field: 'id', descending: true }, ground);
    const rows = await this.database.rows<NotificationRow>(
      `SELECT * FROM \`${environment.database}\`._notifications WHERE ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      plan.values,
    );
    const page = cutPage(
      rows,
      plan,
      ground,
      (row, field) => row[field as keyof NotificationRow],
      (row) => row,
    );
    return { ...page, items: await this.#withCounts(environment, page.items) };
  }

  /** One grouped statement for the counts of all the rows. */
  async #withCounts(environment: Environment, rows: NotificationRow[]): Promise<Notification[]> {
    if (rows.length === 0) return [];
    const counts = await this.database.rows<{
      notificationId: string;
      state: Notification['reasons'][number]['state'];
      reason: string | null;
      count: number;
    }>(
      `SELECT notificationId, state, reason, COUNT(*) AS count FROM \`${environment.database}\`._deliveries WHERE notificationId IN (${rows.map(() => '?').join(', ')}) GROUP BY notificationId, state, reason ORDER BY count DESC`,
      rows.map(({ id }) => id),
    );
    return rows.map((row) => {
      const own = counts.filter(({ notificationId }) => notificationId === row.id);
      const sum = (state?: string) =>
        own.filter((count) => !state || count.state === state).reduce((total, { count }) => total + Number(count), 0);
      const content = row.content as unknown as NotificationContent;
      return {
        id: row.id,
        ...content,
        audience: row.audience as Audience,
        urgency: row.urgency,
        ttlS: row.ttlS,
        replaces: row.replaces,
        createdAt: row.createdAt.toISOString(),
        createdBy: row.createdBy,
        deliveries: { total: sum(), queued: sum('queued'), sent: sum('sent'), failed: sum('failed'), skipped: sum('skipped') },
        reasons: own
          .filter(({ reason }) => reason)
          .map(({ state, reason, count }) => ({ state, reason: reason as string, count: Number(count) })),
      };
    });
  }

  async deliveries(environment: Environment, id: string, request: ListRequest, ground: ListGround) {
    const plan = planList(DELIVERY_COLUMNS, request, { field: 'deviceId', descending: false }, ground);
    const rows = await this.database.rows<Record<string, unknown>>(
      `SELECT d.deviceId, d.state, d.reason, d.attempts, d.answer, d.nextAttemptAt, d.updatedAt, v.userId, COALESCE(v.platform, '') AS platform
       FROM \`${environment.database}\`._deliveries d LEFT JOIN \`${environment.database}\`._devices v ON v.id = d.deviceId
       WHERE d.notificationId = ? AND ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      [id, ...plan.values],
    );
    return cutPage(
      rows,
      plan,
      ground,
      (row, field) => row[field],
      (row) =>
        ({
          ...row,
          nextAttemptAt: (row.nextAttemptAt as Date | null)?.toISOString() ?? null,
          updatedAt: (row.updatedAt as Date).toISOString(),
        }) as unknown as Delivery,
    );
  }

  /** Deliveries to be attempted now, with what the device is reached by. */
  due(environment: Environment, id: string, now: Date, most: number): Promise<DueDelivery[]> {
    return this.database.rows<DueDelivery>(
      `SELECT d.deviceId, d.attempts, v.endpoint, v.p256dh, v.auth, v.id IS NULL OR v.retiredAt IS NOT NULL AS retired
       FROM \`${environment.database}\`._deliveries d LEFT JOIN \`${environment.database}\`._devices v ON v.id = d.deviceId
       WHERE d.notificationId = ? AND d.state = 'queued' AND d.nextAttemptAt <= ? ORDER BY d.nextAttemptAt, d.deviceId LIMIT ${most}`,
      [id, now],
    );
  }

  /** When the next delivery is due, or null when none is queued. */
  async nextDue(environment: Environment, id: string): Promise<Date | null> {
    const rows = await this.database.rows<RowDataPacket>(
      `SELECT MIN(nextAttemptAt) AS at FROM \`${environment.database}\`._deliveries WHERE notificationId = ? AND state = 'queued'`,
      [id],
    );
    return rows[0]?.at ?? null;
  }

  /** Writes the results of a batch in one statement; rows that are not queued any more stay as they are. */
  async saveResults(environment: Environment, id: string, results: DeliveryResult[], now: Date): Promise<void> {
    if (results.length === 0) return;
    const rows = results.map((result) => [
      id,
      result.deviceId,
      result.state,
      result.reason?.slice(0, 300) ?? null,
      result.attempts,
      result.answer,
      result.nextAttemptAt,
      now,
    ]);
    await this.database.run(
      `INSERT INTO \`${environment.database}\`._deliveries (notificationId, deviceId, state, reason, attempts, answer, nextAttemptAt, updatedAt) VALUES ?
       ON DUPLICATE KEY UPDATE state = VALUES(state), reason = VALUES(reason), attempts = VALUES(attempts), answer = VALUES(answer), nextAttemptAt = VALUES(nextAttemptAt), updatedAt = VALUES(updatedAt)`,
      [rows],
    );
  }

  /** Retires devices whose subscription is over, unless they have subscribed anew meanwhile. */
  async retire(environment: Environment, gone: { deviceId: string; endpoint: string; reason: string }[], now: Date): Promise<void> {
    for (const { deviceId, endpoint, reason } of gone) {
      await this.database.change(
        `UPDATE \`${environment.database}\`._devices SET retiredAt = ?, retiredReason = ?, updatedAt = ? WHERE id = ? AND endpoint = ? AND retiredAt IS NULL`,
        [now, reason, now, deviceId, endpoint],
      );
    }
  }
}
