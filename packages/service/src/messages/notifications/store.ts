/** Notifications, as rows. */
import { type Audience, type DeliveryCounts, type DeliveryState, type Notification, Problem, type Way } from '@orchard/contract';
import { grouped } from '@orchard/core';
import type { ContentSet, QuietHours } from '@orchard/core/messages';
import type { Statements } from '../../platform/database/connection.js';
import { KeptByCost } from '../../platform/database/keptByCost.js';
import { type Columns, cutPage, type ListGround, type ListRequest, plainColumns, planList } from '../../platform/database/listing.js';
import { storedJson } from '../../platform/database/storedJson.js';
import type { Environment } from '../../platform/call.js';
import { hasJobSql } from '../../platform/jobs/jobStore.js';
import { DeliveryStore } from './deliveryStore.js';
import { deliveryTable, notificationTable } from './tables.js';

export type NotificationRow = typeof notificationTable.$inferSelect;
/** Options besides content and audience. */
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
  /** Of the call that made it. */
  trace: string | null;
  createdAt: Date;
  startAt: Date | null;
  slices: number;
  spread: boolean;
  spreadTo: string | null;
};
const COLUMNS: Columns = new Map([
  ...plainColumns({ text: ['id', 'way', 'state', 'createdBy', 'urgency'], time: ['createdAt', 'startedAt', 'doneAt'] }),
  ['title', { sql: "JSON_VALUE(content, '$.title')", kind: 'text' }],
]);
/**
 * The columns that deliveries are counted by. MariaDB groups by a 64-bit hash in half the time it needs for the columns
 * themselves.
 */
const COUNTED = ['notificationId', 'way', 'platform', 'variant', 'state', 'reason'];
const COUNTED_TEXT = `CONCAT_WS('|', ${COUNTED.join(', ')})`;
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

export const noNotification = (environment: Environment, id: string): Problem =>
  new Problem('not-found', `There is no notification ${id} in ${environment.app}/${environment.name}.`);

export class NotificationStore {
  readonly #counts = new KeptByCost<CountRow[]>();

  /** The deliveries of notifications. */
  readonly deliveries = new DeliveryStore();

  /** Writes the notification itself; spreading creates its deliveries. */
  async insert(on: Statements, environment: Environment, row: NotificationRow): Promise<void> {
    const stored = {
      ...row,
      content: JSON.stringify(row.content),
      audience: JSON.stringify(row.audience),
      options: JSON.stringify(row.options),
    };
    await on.run(`INSERT INTO ${environment.db.of(notificationTable)} SET ?`, [stored]);
  }

  async #row(environment: Environment, id: string, on: Statements = environment.db, lock = ''): Promise<NotificationRow | null> {
    return (await on.rows<NotificationRow>(`SELECT * FROM ${environment.db.of(notificationTable)} WHERE id = ? ${lock}`, [id]))[0] ?? null;
  }

  async find(environment: Environment, id: string, on: Statements = environment.db): Promise<Notification | null> {
    const row = await this.#row(environment, id, on);
    return row ? ((await this.#withCounts(environment, [row], on))[0] ?? null) : null;
  }

  /** @throws {Problem} not-found */
  async named(environment: Environment, id: string): Promise<Notification> {
    const found = await this.find(environment, id);
    if (!found) throw noNotification(environment, id);
    const chosen = await environment.db.rows<{ button: string; count: number }>(
      `SELECT button, COUNT(*) AS count FROM ${environment.db.of(deliveryTable)} WHERE notificationId = ? AND button IS NOT NULL GROUP BY button ORDER BY count DESC, button`,
      [id],
    );
    return chosen.length > 0 ? { ...found, chosen: chosen.map(({ button, count }) => ({ button, count: Number(count) })) } : found;
  }

  /** The notification as sending sees it; `lock` holds its row until the transaction ends. */
  async sent(environment: Environment, id: string, on: Statements = environment.db, lock = false): Promise<SentNotification | null> {
    const row = await this.#row(environment, id, on, lock ? 'FOR UPDATE' : '');
    return row && asSent(row);
  }

  async list(environment: Environment, request: ListRequest, ground: ListGround) {
    const plan = planList(COLUMNS, { ...request, sort: request.sort || '-id' }, { field: 'id', descending: true }, ground);
    const rows = await environment.db.rows<NotificationRow>(
      `SELECT * FROM ${environment.db.of(notificationTable)} WHERE ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      plan.values,
    );
    const page = cutPage(
      rows,
      plan,
      ground,
      (row, field) => (field === 'title' ? (storedJson(row.content).title ?? null) : row[field as keyof NotificationRow]),
      (row) => row,
    );
    return { ...page, items: await this.#withCounts(environment, page.items, environment.db) };
  }

  async #withCounts(environment: Environment, rows: NotificationRow[], on: Statements): Promise<Notification[]> {
    // Counts are cached by state: those of a finished notification must be complete.
    const nameOf = ({ id, state }: NotificationRow) => `${environment.id} ${id} ${state}`;
    const missing = rows.filter((row) => !this.#counts.get(nameOf(row)));
    const fresh = new Map<string, CountRow[]>();
    if (missing.length > 0) {
      const began = performance.now();
      const counted = await on.runRows<CountRow>(
        `SELECT ${COUNTED.map((column) => `MIN(${column}) AS ${column}`).join(', ')}, COUNT(*) AS count, COUNT(openedAt) AS opened
         FROM ${environment.db.of(deliveryTable)} WHERE notificationId IN (?) GROUP BY CRC32(${COUNTED_TEXT}), CRC32C(${COUNTED_TEXT})`,
        [missing.map(({ id }) => id)],
      );
      const tookMs = performance.now() - began;
      for (const { id } of missing) fresh.set(id, []);
      for (const row of counted) fresh.get(row.notificationId)?.push({ ...row, count: Number(row.count), opened: Number(row.opened) });
      for (const row of missing) this.#counts.keep(nameOf(row), fresh.get(row.id) ?? [], tookMs);
    }
    return rows.map((row) => presentNotification(environment, row, fresh.get(row.id) ?? this.#counts.get(nameOf(row)) ?? []));
  }

  /** Records that deliveries have changed, for readers on other instances. */
  async noteChange(environment: Environment, id: string, now: Date): Promise<void> {
    await environment.db.change(`UPDATE ${environment.db.of(notificationTable)} SET changedAt = ? WHERE id = ?`, [now, id]);
  }

  async changeState(
    on: Statements,
    environment: Environment,
    id: string,
    changes: Partial<Pick<NotificationRow, 'state' | 'startAt' | 'startedAt' | 'doneAt'>>,
  ): Promise<void> {
    const names = Object.keys(changes);
    await on.change(`UPDATE ${environment.db.of(notificationTable)} SET ${names.map((name) => `${name} = ?`).join(', ')} WHERE id = ?`, [
      ...Object.values(changes),
      id,
    ]);
  }

  /**
   * Marks it done when its audience is complete and it has no job any more: a slice has one while some of it is queued, a
   * fallback until every user is reached.
   */
  async finish(environment: Environment, id: string, now: Date): Promise<void> {
    const { db } = environment;
    const [own] = await db.rows<{ open: number }>(
      `SELECT NOT spread OR state <> 'sending' OR ${hasJobSql(db, ['send-notification', 'fall-back'])} AS open
       FROM ${db.of(notificationTable)} WHERE id = ?`,
      [`${id}:%`, id],
    );
    if (!own || Number(own.open)) return;
    await environment.db.change(
      `UPDATE ${environment.db.of(notificationTable)} SET state = 'done', doneAt = ?, changedAt = ? WHERE id = ? AND state = 'sending'`,
      [now, now, id],
    );
  }

  /** Those that are being sent. */
  async sending(environment: Environment): Promise<string[]> {
    const rows = await environment.db.rows<{ id: string }>(
      `SELECT id FROM ${environment.db.of(notificationTable)} WHERE state = 'sending'`,
    );
    return rows.map(({ id }) => id);
  }

  /**
   * Reserves time for some messages within the pace.
   * @returns when the first of them may go, in milliseconds since 1970
   */
  async reserve(environment: Environment, id: string, messages: number, perSecond: number, now: number): Promise<number> {
    const length = Math.ceil((messages * 1000) / perSecond);
    const { insertId } = await environment.db.change(
      `UPDATE ${environment.db.of(notificationTable)} SET paceAt = LAST_INSERT_ID(GREATEST(paceAt, ?) + ?) WHERE id = ?`,
      [now, length, id],
    );
    return insertId - length;
  }

  async remove(on: Statements, environment: Environment, id: string): Promise<void> {
    await on.change(`DELETE FROM ${environment.db.of(notificationTable)} WHERE id = ? AND state IN ('draft', 'scheduled')`, [id]);
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
    trace: row.trace,
    createdAt: row.createdAt,
    startAt: row.startAt,
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

function presentNotification({ actors }: Environment, row: NotificationRow, counts: CountRow[]): Notification {
  const { slices: _s, spreadTo: _t, trace: _c, spread, content, createdAt, ...sent } = asSent(row);
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
    createdBy: actors.show(row.createdBy),
    startAt: iso(row.startAt),
    startedAt: iso(row.startedAt),
    doneAt: iso(row.doneAt),
    spreading: !spread && (sent.state === 'sending' || sent.state === 'stopped'),
    deliveries: sumOf(counts.filter(({ way }) => way === row.way)),
    groups: [...groups.values()]
      .map((rows) => ({
        ...sumOf(rows),
        platform: rows[0]?.platform ?? '',
        variant: rows[0]?.variant ?? 'a',
        way: rows[0]?.way ?? 'push',
      }))
      .sort((a, b) => b.total - a.total || a.platform.localeCompare(b.platform)),
    reasons: [...reasons.values()].sort((a, b) => b.count - a.count),
  };
}
