/** Deliveries, as rows: due deliveries, results, and what the API shows. */
import type { Delivery, DeliveryState, Way } from '@orchard/contract';
import { chooseStep, type JsonObject } from '@orchard/core';
import type { Statements } from '../../platform/database/connection.js';
import { type Columns, cutPage, type ListGround, type ListRequest, plainColumns, planList } from '../../platform/database/listing.js';
import type { Environment } from '../../platform/call.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { usersSql } from '../../people/users/usersSql.js';
import { devicesSql } from '../devices/devicesSql.js';
import { joinOptOutsSql } from '../optOuts/store.js';
import { deliveryTable, notificationTable } from './tables.js';

/** What sending reads of a delivery. Fields of devices and users are there if the way or the content needs them. */
export type DueDelivery = {
  target: string;
  way: Way;
  gateway: string | null;
  deliveryUserId: string | null;
  variant: 'a' | 'b';
  attempts: number;
  sentAt: Date | null;
  reason: string | null;
  platform: string;
  locale: string;
  timeZone: string;
  optedOut?: number;
} & Partial<Nullable<DueDevice & { model: string; os: string; appVersion: string; country: string }>> &
  Partial<Nullable<{ userName: string; userEmail: string; userData: JsonObject | string }>>;
type DueDevice = {
  deviceId: string;
  deviceUserId: string;
  retiredAt: Date;
  endpoint: string;
  p256dh: string;
  auth: string;
  pushKey: string;
  token: string;
  badge: number;
};
type Nullable<T> = { [Name in keyof T]: T[Name] | null };
/** A slice as sending reads it. `personal`, `withUsers`: whether the content names devices' members, or users'. */
export type DueSlice = { id: string; slice: number; way: Way; personal: boolean; withUsers: boolean };

/** The new state of one delivery. */
export type DeliveryResult = {
  target: string;
  state: DeliveryState;
  reason: string | null;
  attempts: number;
  answer: number | null;
  said: string | null;
  messageId: string | null;
  /** The id that a receipt or failure notice will name, if one can come. */
  receiptId: string | null;
  segments: number | null;
  nextAttemptAt: Date | null;
  sentAt: Date | null;
  /** With a receipt that arrived before the result was written. */
  receivedAt: Date | null;
};

const DELIVERY_COLUMNS: Columns = new Map(
  plainColumns({
    text: ['target', 'way', 'gateway', 'userId', 'platform', 'variant', 'state', 'reason', 'said', 'messageId', 'button'],
    number: ['attempts', 'answer', 'segments'],
    time: ['nextAttemptAt', 'sentAt', 'receivedAt', 'openedAt', 'updatedAt'],
  }),
);
const TIMES = ['nextAttemptAt', 'sentAt', 'receivedAt', 'openedAt', 'updatedAt'];

/** What is read with a delivery: the device of a push, whether the recipient of another way has opted out, the user. */
const DEVICE_PART = {
  columns: `, v.id AS deviceId, v.userId AS deviceUserId, v.retiredAt, v.endpoint, v.p256dh, v.auth, v.pushKey, v.token, v.badge, COALESCE(v.platform, d.platform) AS platform,
    COALESCE(v.locale, 'en') AS locale, COALESCE(v.timeZone, 'UTC') AS timeZone`,
  personal: ', v.model, v.os, v.appVersion, v.country',
  join: (db: EnvironmentDatabase) => `LEFT JOIN ${devicesSql(db)} ON v.id = d.target`,
};
const OPT_OUT_PART = {
  columns: ", d.platform, 'en' AS locale, 'UTC' AS timeZone, o.address IS NOT NULL AS optedOut",
  personal: '',
  join: (db: EnvironmentDatabase) => joinOptOutsSql(db, 'd.way', 'd.target'),
};
const USER_PART = {
  columns: ', u.name AS userName, u.email AS userEmail, u.data AS userData',
  join: (db: EnvironmentDatabase) => `LEFT JOIN ${usersSql(db)} ON u.id = d.userId`,
};
/** How each column of a result is written; reports of devices and receipts that arrived meanwhile stay. */
const whenQueued = (column: string, value: string) => `${column} = IF(state = 'queued', ${value}, ${column})`;
const ifSaid = (column: string, value: string) => `${column} = COALESCE(${value}, ${column})`;
const text = (most: number, over: typeof ifSaid) => ({ type: `VARCHAR(${most})`, most, over });
const other = (type: 'INT' | 'SMALLINT' | 'DATETIME(3)', over: typeof ifSaid) => ({ type, most: undefined, over });
/** The state comes last, since the other columns read its old value. */
const RESULT_COLUMNS = {
  reason: text(300, whenQueued),
  said: text(300, whenQueued),
  nextAttemptAt: other('DATETIME(3)', whenQueued),
  attempts: other('INT', ifSaid),
  answer: other('SMALLINT', ifSaid),
  messageId: text(120, ifSaid),
  receiptId: text(120, ifSaid),
  segments: other('SMALLINT', ifSaid),
  sentAt: other('DATETIME(3)', ifSaid),
  receivedAt: other('DATETIME(3)', ifSaid),
  updatedAt: other('DATETIME(3)', whenQueued),
  state: text(8, whenQueued),
};
type ResultColumn = keyof typeof RESULT_COLUMNS;
const RESULT_COLUMN_NAMES = Object.keys(RESULT_COLUMNS) as ResultColumn[];
/** A network's message may be longer than its column. */
const cut = (column: ResultColumn, value: DeliveryResult[keyof DeliveryResult]) =>
  typeof value === 'string' ? value.slice(0, RESULT_COLUMNS[column].most).toWellFormed() : value;
/** A value inside a JSON text that MariaDB reads as the column's type; the connection's time zone is UTC. */
const jsonValue = (column: ResultColumn, value: DeliveryResult[keyof DeliveryResult]) =>
  value instanceof Date ? value.toISOString().slice(0, -1) : cut(column, value);
const SHORT_STEPS_S = [1, 5, 15];
const MOST_STEPS = 60;

export class DeliveryStore {
  async list(environment: Environment, id: string, request: ListRequest, ground: ListGround) {
    const plan = planList(DELIVERY_COLUMNS, request, { field: 'target', descending: false }, ground);
    const rows = await environment.db.rows<Record<string, unknown>>(
      `SELECT target, way, gateway, userId, COALESCE(platform, '') AS platform, variant, state, reason, attempts, answer, said, messageId, segments, nextAttemptAt, sentAt, receivedAt, openedAt, button, updatedAt
       FROM ${environment.db.of(deliveryTable)} WHERE notificationId = ? AND ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
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
          deviceId: row.way === 'push' ? row.target : null,
          ...Object.fromEntries(TIMES.map((name) => [name, (row[name] as Date | null)?.toISOString() ?? null])),
        }) as unknown as Delivery,
    );
  }

  /** Its results over time, in at most sixty steps from its start to the latest event. */
  async course(
    environment: Environment,
    id: string,
  ): Promise<{ items: { at: string; sent: number; arrived: number; opened: number; failed: number }[]; stepS: number }> {
    const table = `${environment.db.of(deliveryTable)}`;
    const [range] = await environment.db.rows<{ first: Date | null; last: Date | null }>(
      `SELECT MIN(sentAt) AS first, MAX(updatedAt) AS last FROM ${table} WHERE notificationId = ?`,
      [id],
    );
    if (!range?.first || !range.last) return { items: [], stepS: 60 };
    const lengthS = (range.last.getTime() - range.first.getTime()) / 1000;
    const stepS =
      SHORT_STEPS_S.find((step) => lengthS / step <= MOST_STEPS) ??
      chooseStep(range.first.getTime(), range.last.getTime(), MOST_STEPS) / 1000;
    const bucket = (column: string) => `FLOOR(UNIX_TIMESTAMP(${column}) / ${stepS})`;
    const series = { sent: 'sentAt', arrived: 'receivedAt', opened: 'openedAt', failed: 'updatedAt' } as const;
    const steps = new Map<number, Record<keyof typeof series, number>>();
    for (const [name, column] of Object.entries(series)) {
      const only = name === 'failed' ? "AND state IN ('failed', 'expired')" : '';
      const rows = await environment.db.rows<{ step: number; count: number }>(
        `SELECT ${bucket(column)} AS step, COUNT(*) AS count FROM ${table} WHERE notificationId = ? AND ${column} IS NOT NULL ${only} GROUP BY step`,
        [id],
      );
      for (const { step, count } of rows) {
        const counts = steps.get(Number(step)) ?? { sent: 0, arrived: 0, opened: 0, failed: 0 };
        counts[name as keyof typeof series] = Number(count);
        steps.set(Number(step), counts);
      }
    }
    const items = [...steps]
      .sort(([a], [b]) => a - b)
      .map(([step, counts]) => ({ at: new Date(step * stepS * 1000).toISOString(), ...counts }));
    return { items, stepS };
  }

  /** The way of all deliveries of a slice. */
  async wayOf(environment: Environment, id: string, slice: number): Promise<Way> {
    const [row] = await environment.db.rows<{ way: Way }>(
      `SELECT way FROM ${environment.db.of(deliveryTable)} WHERE notificationId = ? AND slice = ? LIMIT 1`,
      [id, slice],
    );
    return row?.way ?? 'push';
  }

  /** Deliveries of a slice that are to be attempted now and come after `after`, with what their targets are reached by. */
  due(environment: Environment, from: DueSlice, now: Date, most: number, after: DueDelivery | null): Promise<DueDelivery[]> {
    const { db } = environment;
    const part = from.way === 'push' ? DEVICE_PART : OPT_OUT_PART;
    const user = from.withUsers ? USER_PART : { columns: '', join: () => '' };
    return environment.db.rows<DueDelivery>(
      `SELECT d.target, d.way, d.gateway, d.userId AS deliveryUserId, d.variant, d.attempts, d.sentAt, d.reason ${part.columns} ${from.personal ? part.personal : ''} ${user.columns}
       FROM ${db.of(deliveryTable)} d FORCE INDEX (deliveries_set) JOIN ${db.of(notificationTable)} n ON n.id = d.notificationId AND n.state = 'sending'
         ${part.join(db)} ${user.join(db)}
       WHERE d.notificationId = ? AND d.slice = ? AND d.target > ? AND d.nextAttemptAt <= ? AND d.state = 'queued'
       ORDER BY d.target LIMIT ${most}`,
      [from.id, from.slice, after?.target ?? '', now],
    );
  }

  /** When the next delivery of a slice is due; null when none is queued. */
  async nextDue(environment: Environment, id: string, slice: number): Promise<Date | null> {
    const [row] = await environment.db.rows<{ at: Date | null }>(
      `SELECT MIN(nextAttemptAt) AS at FROM ${environment.db.of(deliveryTable)} FORCE INDEX (deliveries_set) WHERE notificationId = ? AND slice = ? AND nextAttemptAt IS NOT NULL`,
      [id, slice],
    );
    return row?.at ?? null;
  }

  /** Writes results in one statement. What a device or receipt has reported meanwhile stays, as do rows that are no longer queued. */
  async saveResults(environment: Environment, id: string, results: readonly DeliveryResult[], now: Date): Promise<void> {
    const [first] = results;
    if (!first) return;
    // MariaDB spends as much on parsing a value as on writing it, so values shared by all results are sent once.
    const varying = RESULT_COLUMN_NAMES.filter(
      (column) => column !== 'updatedAt' && (column === 'state' || results.some((result) => result[column] !== first[column])),
    );
    const shared = RESULT_COLUMN_NAMES.filter((column) => !varying.includes(column));
    const updates = RESULT_COLUMN_NAMES.map((column) =>
      RESULT_COLUMNS[column].over(column, varying.includes(column) ? `VALUES(${column})` : '?'),
    );
    // In the order of the key, as receipts are written.
    const told = results
      .toSorted((a, b) => (a.target < b.target ? -1 : 1))
      .map((result) => [result.target, ...varying.map((column) => jsonValue(column, result[column as keyof DeliveryResult]))]);
    // With names of their own: what is updated would else be ambiguous.
    const columns = varying.map((column, i) => `r${i} ${RESULT_COLUMNS[column].type} PATH '$[${i + 1}]'`);
    await environment.db.run(
      // Rows come as one JSON text, as in spreading; each of them is there already, so that `updatedAt` is not stored from here.
      `INSERT INTO ${environment.db.of(deliveryTable)} (notificationId, target, ${varying.join(', ')}, updatedAt)
       SELECT ?, told, ${varying.map((_, i) => `r${i}`).join(', ')}, ? FROM JSON_TABLE(?, '$[*]' COLUMNS (told VARCHAR(254) PATH '$[0]', ${columns.join(', ')})) AS results
       ON DUPLICATE KEY UPDATE ${updates.join(', ')}`,
      [id, now, JSON.stringify(told), ...shared.map((column) => (column === 'updatedAt' ? now : cut(column, first[column])))],
    );
  }

  /** Slices that still hold queued deliveries. */
  async openSlices(on: Statements, environment: Environment, id: string): Promise<number[]> {
    const rows = await on.rows<{ slice: number }>(
      `SELECT slice FROM ${environment.db.of(deliveryTable)} WHERE notificationId = ? AND nextAttemptAt IS NOT NULL GROUP BY slice`,
      [id],
    );
    return rows.map(({ slice }) => slice);
  }

  /** What a device was sent, the latest first. */
  async ofDevice(environment: Environment, id: string, request: ListRequest, ground: ListGround) {
    const columns: Columns = new Map([
      ['notification', { sql: 'd.notificationId', kind: 'text' }],
      ['state', { sql: 'd.state', kind: 'text' }],
      ['updatedAt', { sql: 'd.updatedAt', kind: 'time' }],
    ]);
    const plan = planList(
      columns,
      { ...request, sort: request.sort || '-notification' },
      { field: 'notification', descending: true },
      ground,
    );
    const rows = await environment.db.rows<Record<string, Date | string | null>>(
      `SELECT d.notificationId AS notification, JSON_VALUE(n.content, '$.title') AS title, d.state, d.reason, d.gateway, d.sentAt, d.receivedAt, d.openedAt, d.updatedAt
       FROM ${environment.db.of(deliveryTable)} d JOIN ${environment.db.of(notificationTable)} n ON n.id = d.notificationId
       WHERE d.target = ? AND ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      [id, ...plan.values],
    );
    const times = ['sentAt', 'receivedAt', 'openedAt', 'updatedAt'];
    return cutPage(
      rows,
      plan,
      ground,
      (row, field) => row[field],
      (row) => ({ ...row, ...Object.fromEntries(times.map((name) => [name, (row[name] as Date | null)?.toISOString() ?? null])) }) as never,
    );
  }
}

/** Lets deliveries that wait for a gateway go at once. @returns how many */
export async function hastenWaiting({ db }: Environment, gateway: string, at: Date): Promise<number> {
  const { affectedRows } = await db.run(
    `UPDATE ${db.of(deliveryTable)} d JOIN ${db.of(notificationTable)} n ON n.id = d.notificationId AND n.state = 'sending'
     SET d.nextAttemptAt = ? WHERE d.gateway = ? AND d.state = 'queued' AND d.nextAttemptAt > ?`,
    [at, gateway, at],
  );
  return affectedRows;
}

/** A mail bounced: its delivery has failed after all. */
export async function failReturned({ db }: Environment, mark: string, reason: string, said: string | null, now: Date): Promise<void> {
  await db.change(
    `UPDATE ${db.of(deliveryTable)} SET state = 'failed', reason = ?, said = ?, nextAttemptAt = NULL, updatedAt = ? WHERE receiptId = ? AND way = 'mail' AND state IN ('queued', 'accepted')`,
    [reason.slice(0, 300), said?.slice(0, 300) ?? null, now, mark],
  );
}

export type Receipted = { receiptId: string; notificationId: string; target: string };
/** Deliveries named by a gateway's receipts. */
export function findReceipted({ db }: Environment, gateway: string, receiptIds: readonly string[]): Promise<Receipted[]> {
  return db.runRows(`SELECT receiptId, notificationId, target FROM ${db.of(deliveryTable)} WHERE receiptId IN (?) AND gateway = ?`, [
    receiptIds,
    gateway,
  ]);
}

export type ReceiptEnd = Pick<DeliveryResult, 'reason' | 'said'> & { state: 'arrived' | 'expired' | 'failed' };
/** Writes the same receipt to deliveries of one notification. */
export async function endByReceipt(
  { db }: Environment,
  notificationId: string,
  targets: readonly string[],
  { state, reason, said }: ReceiptEnd,
  now: Date,
): Promise<void> {
  // By the primary key and in its order, as results are written, so that the two never deadlock.
  await db.run(
    `UPDATE ${db.of(deliveryTable)} SET state = ?, reason = ?, said = ?, receivedAt = ?, updatedAt = ? WHERE notificationId = ? AND target IN (?) AND state IN ('queued', 'accepted')`,
    [state, reason, said, state === 'arrived' ? now : null, now, notificationId, [...targets].sort()],
  );
}
