/** Notifications and their deliveries, as rows. */
import type { Audience, Delivery, DeliveryCounts, DeliveryState, Notification, Way } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { chooseStep, grouped } from '@orchard/core';
import type { ContentSet, QuietHours } from '@orchard/core/reach';
import { LRUCache } from 'lru-cache';
import type { Database, Statements } from '../database/connection.js';
import type { tablesOf } from '../database/environmentTables.js';
import { type Columns, cutPage, type ListGround, type ListRequest, plainColumns, planList } from '../database/listing.js';
import { storedJson } from '../database/storedJson.js';
import type { Environment } from '../http/call.js';

export type NotificationRow = ReturnType<typeof tablesOf>['notifications']['$inferSelect'];
/** What was asked for besides content and audience. */
export type SendOptions = {
  start?: { at: string } | { local: string } | undefined;
  perSecond?: number | undefined;
  quiet?: QuietHours | undefined;
  fallBack?: { afterMin: number; way: 'sms' | 'mail'; body?: string | undefined } | undefined;
};
/** A notification as sending sees it. */
export type SentNotification = SendOptions & {
  id: string;
  way: Way;
  state: Notification['state'];
  content: ContentSet;
  audience: Audience;
  urgency: string;
  ttlS: number;
  replaces: string | null;
  createdAt: Date;
  slices: number;
  spread: boolean;
  spreadTo: string | null;
};
export type DueDelivery = {
  target: string;
  way: Way;
  gateway: string | null;
  deliveryUserId: string | null;
  variant: 'a' | 'b';
  attempts: number;
  nextAttemptAt: Date;
  sentAt: Date | null;
  reason: string | null;
  deviceId: string | null;
  deviceUserId: string | null;
  retiredAt: Date | null;
  endpoint: string | null;
  p256dh: string | null;
  auth: string | null;
  pushKey: string | null;
  token: string | null;
  badge: number | null;
  platform: string;
  locale: string;
  timeZone: string;
  model: string | null;
  os: string | null;
  appVersion: string | null;
  country: string | null;
  optedOut?: number;
  userName?: string | null;
  userEmail?: string | null;
  userData?: JsonObject | string | null;
};
/** The new state of one delivery. */
export type DeliveryResult = {
  target: string;
  state: DeliveryState;
  reason: string | null;
  attempts: number;
  answer: number | null;
  said: string | null;
  messageId: string | null;
  segments: number | null;
  nextAttemptAt: Date | null;
  sentAt: Date | null;
};

const COLUMNS: Columns = new Map([
  ...plainColumns({ text: ['id', 'way', 'state', 'createdBy', 'urgency'], time: ['createdAt', 'startedAt', 'doneAt'] }),
  ['title', { sql: "JSON_VALUE(content, '$.title')", kind: 'text' }],
]);
const DELIVERY_COLUMNS: Columns = new Map(
  plainColumns({
    text: ['target', 'way', 'gateway', 'userId', 'platform', 'variant', 'state', 'reason', 'said', 'messageId'],
    number: ['attempts', 'answer', 'segments'],
    time: ['nextAttemptAt', 'sentAt', 'receivedAt', 'openedAt', 'updatedAt'],
  }),
);
const TIMES = ['nextAttemptAt', 'sentAt', 'receivedAt', 'openedAt', 'updatedAt'];

type CountRow = {
  notificationId: string;
  way: Way;
  platform: string | null;
  variant: 'a' | 'b';
  state: DeliveryState;
  reason: string | null;
  count: number;
  opened: number;
};
/** What is read with a delivery: the device of a push, whether the recipient of another way has opted out, the user. */
const DEVICE_PART = {
  columns: `, v.id AS deviceId, v.userId AS deviceUserId, v.retiredAt, v.endpoint, v.p256dh, v.auth, v.pushKey, v.token, v.badge, COALESCE(v.platform, d.platform) AS platform,
    COALESCE(v.locale, 'en') AS locale, COALESCE(v.timeZone, 'UTC') AS timeZone, v.model, v.os, v.appVersion, v.country`,
  join: 'LEFT JOIN @_devices v ON v.id = d.target',
};
const OPT_OUT_PART = {
  columns: ', o.address IS NOT NULL AS optedOut',
  join: "LEFT JOIN @_optOuts o ON o.way = d.way AND o.address = d.target AND o.state = 'out'",
};
const USER_PART = {
  columns: ', u.name AS userName, u.email AS userEmail, u.data AS userData',
  join: 'LEFT JOIN @_users u ON u.id = d.userId',
};
const NO_DEVICE = {
  ...{
    deviceId: null,
    deviceUserId: null,
    retiredAt: null,
    endpoint: null,
    p256dh: null,
    auth: null,
    pushKey: null,
    token: null,
    badge: null,
  },
  ...{ locale: 'en', timeZone: 'UTC', model: null, os: null, appVersion: null, country: null },
};
/** A device whose network says that it is gone, at the address that was tried. */
export type GoneDevice = { deviceId: string; endpoint: string | null; token: string | null; reason: string };
const RETIRED_AT_ONCE = 100;
/** A count that took long is kept for a while: for so many times as long as it took. */
const KEEP_TIMES = 20;
const KEEP_AT_MOST_MS = 10_000;
const SHORT_STEPS_S = [1, 5, 15];
const MOST_STEPS = 60;

export class NotificationStore {
  readonly #counts = new LRUCache<string, CountRow[]>({ max: 200, ttl: 1 });

  constructor(private readonly database: Database) {}

  /** Writes the notification itself; its deliveries are made by spreading. */
  async insert(on: Statements, environment: Environment, row: NotificationRow): Promise<void> {
    const stored = {
      ...row,
      content: JSON.stringify(row.content),
      audience: JSON.stringify(row.audience),
      options: JSON.stringify(row.options),
    };
    await on.run(`INSERT INTO \`${environment.database}\`._notifications SET ?`, [stored]);
  }

  async #row(environment: Environment, id: string, on: Statements = this.database, lock = ''): Promise<NotificationRow | null> {
    return (
      (await on.rows<NotificationRow>(`SELECT * FROM \`${environment.database}\`._notifications WHERE id = ? ${lock}`, [id]))[0] ?? null
    );
  }

  async find(environment: Environment, id: string, on: Statements = this.database): Promise<Notification | null> {
    const row = await this.#row(environment, id, on);
    return row ? ((await this.#withCounts(environment, [row], on))[0] ?? null) : null;
  }

  /** The notification as sending sees it; `lock` holds its row until the transaction ends. */
  async sent(environment: Environment, id: string, on: Statements = this.database, lock = false): Promise<SentNotification | null> {
    const row = await this.#row(environment, id, on, lock ? 'FOR UPDATE' : '');
    return row && asSent(row);
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
      (row, field) => (field === 'title' ? (storedJson(row.content).title ?? null) : row[field as keyof NotificationRow]),
      (row) => row,
    );
    return { ...page, items: await this.#withCounts(environment, page.items, this.database) };
  }

  async #withCounts(environment: Environment, rows: NotificationRow[], on: Statements): Promise<Notification[]> {
    // Counts of one state say nothing of the next: those of a notification that is done must be whole.
    const nameOf = ({ id, state }: NotificationRow) => `${environment.id} ${id} ${state}`;
    const missing = rows.filter((row) => !this.#counts.get(nameOf(row)));
    const fresh = new Map<string, CountRow[]>();
    if (missing.length > 0) {
      const began = performance.now();
      const counted = await on.runRows<CountRow>(
        `SELECT notificationId, way, platform, variant, state, reason, COUNT(*) AS count, COUNT(openedAt) AS opened FROM \`${environment.database}\`._deliveries
         WHERE notificationId IN (?) GROUP BY notificationId, way, platform, variant, state, reason`,
        [missing.map(({ id }) => id)],
      );
      const ttl = Math.min((performance.now() - began) * KEEP_TIMES, KEEP_AT_MOST_MS);
      for (const { id } of missing) fresh.set(id, []);
      for (const row of counted) fresh.get(row.notificationId)?.push({ ...row, count: Number(row.count), opened: Number(row.opened) });
      if (ttl > 1000) for (const row of missing) this.#counts.set(nameOf(row), fresh.get(row.id) ?? [], { ttl });
    }
    return rows.map((row) => presentNotification(row, fresh.get(row.id) ?? this.#counts.get(nameOf(row)) ?? []));
  }

  async deliveries(environment: Environment, id: string, request: ListRequest, ground: ListGround) {
    const plan = planList(DELIVERY_COLUMNS, request, { field: 'target', descending: false }, ground);
    const rows = await this.database.rows<Record<string, unknown>>(
      `SELECT target, way, gateway, userId, COALESCE(platform, '') AS platform, variant, state, reason, attempts, answer, said, messageId, segments, nextAttemptAt, sentAt, receivedAt, openedAt, updatedAt
       FROM \`${environment.database}\`._deliveries WHERE notificationId = ? AND ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
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

  /** What became of it over time, in at most sixty steps from its start to the latest event. */
  async course(
    environment: Environment,
    id: string,
  ): Promise<{ items: { at: string; sent: number; arrived: number; opened: number; failed: number }[]; stepS: number }> {
    const table = `\`${environment.database}\`._deliveries`;
    const [range] = await this.database.rows<{ first: Date | null; last: Date | null }>(
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
      const rows = await this.database.rows<{ step: number; count: number }>(
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

  /** The way all deliveries of a set go. */
  async wayOf(environment: Environment, id: string, slice: number): Promise<Way> {
    const [row] = await this.database.rows<{ way: Way }>(
      `SELECT way FROM \`${environment.database}\`._deliveries WHERE notificationId = ? AND slice = ? LIMIT 1`,
      [id, slice],
    );
    return row?.way ?? 'push';
  }

  /** Deliveries of a set that are to be attempted now and come after `after`, with what their targets are reached by. */
  async due(
    environment: Environment,
    { id, slice, way, withUsers }: { id: string; slice: number; way: Way; withUsers: boolean },
    now: Date,
    most: number,
    after: DueDelivery | null,
  ): Promise<DueDelivery[]> {
    const { database } = environment;
    const { columns, join } = way === 'push' ? DEVICE_PART : OPT_OUT_PART;
    const user = withUsers ? USER_PART : { columns: '', join: '' };
    const rows = await this.database.rows<DueDelivery>(
      `SELECT d.target, d.way, d.gateway, d.userId AS deliveryUserId, d.variant, d.attempts, d.nextAttemptAt, d.sentAt, d.reason ${columns} ${user.columns}
       FROM \`${database}\`._deliveries d JOIN \`${database}\`._notifications n ON n.id = d.notificationId AND n.state = 'sending'
         ${`${join} ${user.join}`.replaceAll('@', `\`${database}\`.`)}
       WHERE d.notificationId = ? AND d.slice = ? AND d.nextAttemptAt <= ? AND d.state = 'queued' ${after ? 'AND (d.nextAttemptAt, d.target) > (?, ?)' : ''}
       ORDER BY d.nextAttemptAt, d.target LIMIT ${most}`,
      [id, slice, now, ...(after ? [after.nextAttemptAt, after.target] : [])],
    );
    return way === 'push' ? rows : rows.map((row) => ({ ...NO_DEVICE, ...row, platform: way }));
  }

  /** When the next delivery of a set is due, or null when none is queued. */
  async nextDue(environment: Environment, id: string, slice: number): Promise<Date | null> {
    const [row] = await this.database.rows<{ at: Date | null }>(
      `SELECT MIN(nextAttemptAt) AS at FROM \`${environment.database}\`._deliveries WHERE notificationId = ? AND slice = ? AND nextAttemptAt IS NOT NULL`,
      [id, slice],
    );
    return row?.at ?? null;
  }

  /** Writes results in one statement. What a device or receipt has told meanwhile stays, as do rows not queued any more. */
  async saveResults(environment: Environment, id: string, results: DeliveryResult[], now: Date): Promise<void> {
    if (results.length === 0) return;
    const rows = results.map((result) => [
      id,
      result.target,
      result.state,
      result.reason?.slice(0, 300) ?? null,
      result.attempts,
      result.answer,
      result.said?.slice(0, 300) ?? null,
      result.messageId?.slice(0, 120) ?? null,
      result.segments,
      result.nextAttemptAt,
      result.sentAt,
      now,
    ]);
    const keep = (column: string) => `${column} = IF(state = 'queued', VALUES(${column}), ${column})`;
    const always = (column: string) => `${column} = COALESCE(VALUES(${column}), ${column})`;
    await this.database.run(
      `INSERT INTO \`${environment.database}\`._deliveries (notificationId, target, state, reason, attempts, answer, said, messageId, segments, nextAttemptAt, sentAt, updatedAt) VALUES ?
       ON DUPLICATE KEY UPDATE ${['reason', 'said', 'nextAttemptAt', 'updatedAt'].map(keep).join(', ')}, ${['attempts', 'answer', 'messageId', 'segments', 'sentAt'].map(always).join(', ')}, ${keep('state')}`,
      [rows],
    );
  }

  /** Notes that deliveries have changed, for those who look at other instances. */
  async noteChange(environment: Environment, id: string, now: Date): Promise<void> {
    await this.database.change(`UPDATE \`${environment.database}\`._notifications SET changedAt = ? WHERE id = ?`, [now, id]);
  }

  /** Retires devices whose address is over, unless they have sent a new one meanwhile. */
  async retire(environment: Environment, gone: readonly GoneDevice[], now: Date): Promise<void> {
    for (let at = 0; at < gone.length; at += RETIRED_AT_ONCE) {
      const some = gone.slice(at, at + RETIRED_AT_ONCE);
      await this.database.run(
        `UPDATE \`${environment.database}\`._devices SET retiredAt = ?, updatedAt = ?, retiredReason = CASE id ${some.map(() => 'WHEN ? THEN ?').join(' ')} END
         WHERE retiredAt IS NULL AND (${some.map(() => '(id = ? AND endpoint <=> ? AND token <=> ?)').join(' OR ')})`,
        [
          now,
          now,
          ...some.flatMap(({ deviceId, reason }) => [deviceId, reason.slice(0, 200)]),
          ...some.flatMap(({ deviceId, endpoint, token }) => [deviceId, endpoint, token]),
        ],
      );
    }
  }

  /** One was added to the icons of these devices. */
  async addBadges(environment: Environment, ids: string[]): Promise<void> {
    if (ids.length > 0) await this.database.run(`UPDATE \`${environment.database}\`._devices SET badge = badge + 1 WHERE id IN (?)`, [ids]);
  }

  async changeState(
    on: Statements,
    environment: Environment,
    id: string,
    changes: Partial<Pick<NotificationRow, 'state' | 'startAt' | 'startedAt' | 'doneAt'>>,
  ): Promise<void> {
    const names = Object.keys(changes);
    await on.change(`UPDATE \`${environment.database}\`._notifications SET ${names.map((name) => `${name} = ?`).join(', ')} WHERE id = ?`, [
      ...Object.values(changes),
      id,
    ]);
  }

  /** Sets that still hold something to send. */
  async openSlices(on: Statements, environment: Environment, id: string): Promise<number[]> {
    const rows = await on.rows<{ slice: number }>(
      `SELECT slice FROM \`${environment.database}\`._deliveries WHERE notificationId = ? AND nextAttemptAt IS NOT NULL GROUP BY slice`,
      [id],
    );
    return rows.map(({ slice }) => slice);
  }

  /**
   * Calls it done when its audience is through and no job works for it any more: a set has one until nothing of it is
   * queued, and a fall-back until everybody is reached.
   */
  async finish(environment: Environment, id: string, now: Date): Promise<void> {
    const [own] = await this.database.rows<{ open: number }>(
      `SELECT NOT spread OR state <> 'sending' OR EXISTS (
         SELECT 1 FROM \`${this.database.name}\`.jobs j WHERE j.environmentId = ? AND j.kind IN ('send-notification', 'fall-back') AND j.subject LIKE ?) AS open
       FROM \`${environment.database}\`._notifications WHERE id = ?`,
      [environment.id, `${id}:%`, id],
    );
    if (!own || Number(own.open)) return;
    await this.database.change(
      `UPDATE \`${environment.database}\`._notifications SET state = 'done', doneAt = ?, changedAt = ? WHERE id = ? AND state = 'sending'`,
      [now, now, id],
    );
  }

  /** Those that are being sent. */
  async sending(environment: Environment): Promise<string[]> {
    const rows = await this.database.rows<{ id: string }>(
      `SELECT id FROM \`${environment.database}\`._notifications WHERE state = 'sending'`,
    );
    return rows.map(({ id }) => id);
  }

  /** Reserves time for some messages of a pace. @returns when the first of them may go, in milliseconds since 1970 */
  async reserve(environment: Environment, id: string, messages: number, perSecond: number, now: number): Promise<number> {
    const length = Math.ceil((messages * 1000) / perSecond);
    const { insertId } = await this.database.change(
      `UPDATE \`${environment.database}\`._notifications SET paceAt = LAST_INSERT_ID(GREATEST(paceAt, ?) + ?) WHERE id = ?`,
      [now, length, id],
    );
    return insertId - length;
  }

  async remove(environment: Environment, id: string): Promise<void> {
    await this.database.change(`DELETE FROM \`${environment.database}\`._notifications WHERE id = ? AND state IN ('draft', 'scheduled')`, [
      id,
    ]);
  }
}

export function asSent(row: NotificationRow): SentNotification {
  return {
    ...(storedJson(row.options ?? {}) as SendOptions),
    id: row.id,
    way: row.way as Way,
    state: row.state as SentNotification['state'],
    content: storedJson(row.content) as ContentSet,
    audience: storedJson(row.audience) as Audience,
    urgency: row.urgency,
    ttlS: row.ttlS,
    replaces: row.replaces,
    createdAt: row.createdAt,
    slices: row.slices,
    spread: Boolean(row.spread),
    spreadTo: row.spreadTo,
  };
}

function sumOf(rows: CountRow[]): DeliveryCounts {
  const counts: DeliveryCounts = { total: 0, queued: 0, accepted: 0, arrived: 0, expired: 0, failed: 0, skipped: 0, opened: 0 };
  for (const { state, count, opened } of rows) {
    counts.total += count;
    counts[state] += count;
    counts.opened += opened;
  }
  return counts;
}

function presentNotification(row: NotificationRow, counts: CountRow[]): Notification {
  const { slices: _s, spreadTo: _t, spread, content, createdAt, ...sent } = asSent(row);
  const groups = grouped(counts, ({ way, platform, variant }) => `${way} ${platform} ${variant}`);
  const reasons = new Map<string, Notification['reasons'][number]>();
  for (const { state, reason, count } of counts) {
    if (!reason) continue;
    const name = `${state} ${reason}`;
    const known = reasons.get(name);
    if (known) known.count += count;
    else reasons.set(name, { state, reason, count });
  }
  const iso = (at: Date | null) => at?.toISOString() ?? null;
  return {
    ...(content as Omit<ContentSet, 'title'>),
    ...sent,
    title: content.title ?? null,
    createdAt: createdAt.toISOString(),
    createdBy: row.createdBy,
    startAt: iso(row.startAt),
    startedAt: iso(row.startedAt),
    doneAt: iso(row.doneAt),
    spreading: !spread && (sent.state === 'sending' || sent.state === 'stopped'),
    deliveries: sumOf(counts.filter(({ way }) => way === row.way)),
    groups: [...groups.values()].map((rows) => ({
      ...sumOf(rows),
      platform: rows[0]?.platform ?? '',
      variant: rows[0]?.variant ?? 'a',
      way: rows[0]?.way ?? 'push',
    })),
    reasons: [...reasons.values()].sort((a, b) => b.count - a.count),
  };
}
