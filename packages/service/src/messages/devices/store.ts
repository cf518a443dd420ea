/** Devices, as rows. */
import type { Device } from '@orchard/contract';
import { eq } from 'drizzle-orm';
import type { Statements } from '../../platform/database/connection.js';
import { tablesOf } from '../../platform/database/environmentTables.js';
import { type Columns, cutPage, type ListGround, type ListRequest, plainColumns, planList } from '../../platform/database/listing.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { gatewayFor, type PushWays, pushWaysOf, whyNot } from './reach.js';

export type DeviceRow = ReturnType<typeof tablesOf>['devices']['$inferSelect'];

const TEXTS = [
  'id',
  'userId',
  'client',
  'platform',
  'appVersion',
  'os',
  'model',
  'locale',
  'timeZone',
  'country',
  'permission',
  'tokenStage',
  'retiredReason',
];
const TIMES = ['retiredAt', 'createdAt', 'updatedAt', 'lastSeenAt'];
/** What filters over devices may name; audiences use the same. */
export const DEVICE_COLUMNS: Columns = new Map(plainColumns({ text: TEXTS, time: TIMES }, 'v'));

export function presentDevice(row: DeviceRow, ways: PushWays): Device {
  const { endpoint, p256dh: _p, auth: _a, pushKey: _k, token: _t, secretHash: _s, ...rest } = row;
  const why = whyNot(row, ways);
  const retired = row.retiredAt ? `Retired: ${(row.retiredReason ?? 'no reason given').replace(/\.$/, '')}.` : null;
  return {
    ...rest,
    gateway: gatewayFor(row, ways),
    reachable: why === null,
    reach: retired ?? why ?? 'Registered, allowed and subscribed.',
    platform: row.platform as Device['platform'],
    permission: row.permission as Device['permission'],
    pushOrigin: endpoint ? new URL(endpoint).origin : null,
    retiredAt: row.retiredAt?.toISOString() ?? null,
    createdAt: row.createdAt.toISOString(),
    updatedAt: row.updatedAt.toISOString(),
    lastSeenAt: row.lastSeenAt.toISOString(),
  };
}

export class DeviceStore {
  constructor(private readonly parts: Pick<Parts, 'database' | 'gateways' | 'now'>) {}

  async find(environment: Environment, id: string): Promise<DeviceRow | null> {
    const { devices } = tablesOf(environment.database);
    return (await this.parts.database.orm.select().from(devices).where(eq(devices.id, id)))[0] ?? null;
  }

  /** Those of the ids that there are. */
  async known(environment: Environment, ids: readonly string[]): Promise<Set<string>> {
    if (ids.length === 0) return new Set();
    const rows = await this.parts.database.runRows<{ id: string }>(`SELECT id FROM \`${environment.database}\`._devices WHERE id IN (?)`, [
      ids,
    ]);
    return new Set(rows.map(({ id }) => id));
  }

  async present(environment: Environment, row: DeviceRow): Promise<Device> {
    return presentDevice(row, pushWaysOf(await this.parts.gateways.rows(environment.id)));
  }

  /** Writes a registration; a retired device that registers again is back. */
  async save(environment: Environment, row: DeviceRow): Promise<void> {
    const { devices } = tablesOf(environment.database);
    const { id: _id, createdAt: _created, secretHash: _secret, ...changing } = row;
    await this.parts.database.orm.insert(devices).values(row).onDuplicateKeyUpdate({ set: changing });
  }

  /** Gives a device its secret; false when it has one. */
  async giveSecret(environment: Environment, id: string, secretHash: string): Promise<boolean> {
    const { affectedRows } = await this.parts.database.change(
      `UPDATE \`${environment.database}\`._devices SET secretHash = ? WHERE id = ? AND secretHash IS NULL`,
      [secretHash, id],
    );
    return affectedRows === 1;
  }

  async update(environment: Environment, id: string, changes: Partial<DeviceRow>): Promise<void> {
    const { devices } = tablesOf(environment.database);
    await this.parts.database.orm.update(devices).set(changes).where(eq(devices.id, id));
  }

  /** Forgets the device and what it follows. */
  async remove(environment: Environment, id: string): Promise<boolean> {
    return this.parts.database.transaction(async (on) => {
      await on.change(`DELETE FROM \`${environment.database}\`._follows WHERE kind = 'device' AND follower = ?`, [id]);
      return (await on.change(`DELETE FROM \`${environment.database}\`._devices WHERE id = ?`, [id])).affectedRows > 0;
    });
  }

  /** Retires devices that were not seen since a time; answers how many. */
  async retireUnseen(environment: Environment, since: Date, days: number, now: Date): Promise<number> {
    const { affectedRows } = await this.parts.database.change(
      `UPDATE \`${environment.database}\`._devices SET retiredAt = ?, retiredReason = ?, updatedAt = ? WHERE retiredAt IS NULL AND lastSeenAt < ?`,
      [now, `It was not seen for ${days} days.`, now, since],
    );
    return affectedRows;
  }

  /** A user signed out on the device: it is nobody's. */
  async signOut(environment: Environment, id: string, userId: string): Promise<void> {
    await this.parts.database.change(
      `UPDATE \`${environment.database}\`._devices SET userId = NULL, updatedAt = ? WHERE id = ? AND userId = ?`,
      [new Date(this.parts.now()), id, userId],
    );
  }

  /** The devices of a user who is removed are nobody's. */
  async releaseUser(on: Statements, environment: Environment, userId: string): Promise<void> {
    await on.change(`UPDATE \`${environment.database}\`._devices SET userId = NULL WHERE userId = ?`, [userId]);
  }

  async list(environment: Environment, request: ListRequest, ground: ListGround) {
    const plan = planList(DEVICE_COLUMNS, { ...request, sort: request.sort || '-lastSeenAt' }, { field: 'id', descending: false }, ground);
    const rows = await this.parts.database.rows<DeviceRow>(
      `SELECT v.* FROM \`${environment.database}\`._devices v WHERE ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      plan.values,
    );
    const ways = pushWaysOf(await this.parts.gateways.rows(environment.id));
    return cutPage(
      rows,
      plan,
      ground,
      (row, field) => row[field as keyof DeviceRow],
      (row) => presentDevice(row, ways),
    );
  }

  /** What a device was sent, the latest first. */
  async deliveries(environment: Environment, id: string, request: ListRequest, ground: ListGround) {
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
    const rows = await this.parts.database.rows<Record<string, Date | string | null>>(
      `SELECT d.notificationId AS notification, JSON_VALUE(n.content, '$.title') AS title, d.state, d.reason, d.gateway, d.sentAt, d.receivedAt, d.openedAt, d.updatedAt
       FROM \`${environment.database}\`._deliveries d JOIN \`${environment.database}\`._notifications n ON n.id = d.notificationId
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
