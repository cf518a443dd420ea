/** Devices, as rows. */
import type { Device } from '@orchard/contract';
import { and, desc, eq, inArray, isNotNull, isNull } from 'drizzle-orm';
import type { Statements } from '../../platform/database/connection.js';
import { cutPage, type ListGround, type ListRequest, planList } from '../../platform/database/listing.js';
import type { Environment } from '../../platform/call.js';
import { deviceFunctions, prepareBehaviour } from './behaviour.js';
import { deviceColumns } from './columns.js';
import type { Parts } from './parts.js';
import { gatewayFor, type PushWays, pushWaysOf, REASONS, whyNot } from './pushWays.js';
import { deviceTable } from './tables.js';

/** A device that its network reports as gone, at the address that was tried. */
export type GoneDevice = { deviceId: string; endpoint: string | null; token: string | null; reason: string };
const RETIRED_AT_ONCE = 100;
/** Of one user: the zone of the device used last, how many can be reached, and why that one cannot. */
export type Carried = { zone: string; reachable: number; why: string | null };
export type DeviceRow = typeof deviceTable.$inferSelect;

export function presentDevice(row: DeviceRow, ways: PushWays): Device {
  const { endpoint, p256dh: _p, auth: _a, pushKey: _k, token: _t, secretHash: _s, allowsAlert, allowsSound, allowsBadge, ...rest } = row;
  const isGranted = row.permission === 'granted';
  const why = whyNot(row, ways);
  const retired = row.retiredAt ? `Retired: ${(row.retiredReason ?? 'no reason given').replace(/\.$/, '')}.` : null;
  return {
    ...rest,
    gateway: gatewayFor(row, ways),
    reachable: why === null,
    // What failed on the device says more than that nothing came of it.
    reach: retired ?? (why && why !== REASONS.denied ? row.pushTrouble : null) ?? why ?? 'Registered, allowed and subscribed.',
    platform: row.platform as Device['platform'],
    permission: row.permission as Device['permission'],
    allows: {
      alert: Boolean(allowsAlert ?? isGranted),
      sound: Boolean(allowsSound ?? isGranted),
      badge: Boolean(allowsBadge ?? isGranted),
    },
    pushOrigin: endpoint ? new URL(endpoint).origin : null,
    retiredAt: row.retiredAt?.toISOString() ?? null,
    createdAt: row.createdAt.toISOString(),
    updatedAt: row.updatedAt.toISOString(),
    lastSeenAt: row.lastSeenAt.toISOString(),
  };
}

export class DeviceStore {
  constructor(private readonly parts: Pick<Parts, 'gateways' | 'now' | 'ports'>) {}

  async find(environment: Environment, id: string): Promise<DeviceRow | null> {
    const devices = environment.db.table(deviceTable);
    return (await environment.db.orm.select().from(devices).where(eq(devices.id, id)))[0] ?? null;
  }

  /** The ids that exist. */
  async known(environment: Environment, ids: readonly string[]): Promise<Set<string>> {
    if (ids.length === 0) return new Set();
    const rows = await environment.db.runRows<{ id: string }>(`SELECT id FROM ${environment.db.of(deviceTable)} WHERE id IN (?)`, [ids]);
    return new Set(rows.map(({ id }) => id));
  }

  /** The countries that these devices reported; those that reported none are left out. */
  async countriesOf({ db }: Pick<Environment, 'db'>, ids: readonly string[]): Promise<Map<string, string>> {
    if (ids.length === 0) return new Map();
    const rows = await db.runRows<{ id: string; country: string }>(
      `SELECT id, country FROM ${db.of(deviceTable)} WHERE id IN (?) AND country IS NOT NULL`,
      [ids],
    );
    return new Map(rows.map(({ id, country }) => [id, country]));
  }

  async present(environment: Environment, row: DeviceRow): Promise<Device> {
    return presentDevice(row, pushWaysOf(await this.parts.gateways.rows(environment)));
  }

  /** Writes a registration; a retired device that registers again becomes active. */
  async save(environment: Environment, row: DeviceRow): Promise<void> {
    const devices = environment.db.table(deviceTable);
    const { id: _id, createdAt: _created, secretHash: _secret, ...changing } = row;
    await environment.db.orm.insert(devices).values(row).onDuplicateKeyUpdate({ set: changing });
  }

  /** Sets a device's secret; false when it has one already. */
  async giveSecret(environment: Environment, id: string, secretHash: string): Promise<boolean> {
    const { affectedRows } = await environment.db.change(
      `UPDATE ${environment.db.of(deviceTable)} SET secretHash = ? WHERE id = ? AND secretHash IS NULL`,
      [secretHash, id],
    );
    return affectedRows === 1;
  }

  async update(environment: Environment, id: string, changes: Partial<DeviceRow>): Promise<void> {
    const devices = environment.db.table(deviceTable);
    await environment.db.orm.update(devices).set(changes).where(eq(devices.id, id));
  }

  /** Forgets the device and what it follows. */
  async remove(environment: Environment, id: string): Promise<boolean> {
    return environment.db.transaction(async (on) => {
      await this.parts.ports.deviceRemoved(on, environment, id);
      return (await on.change(`DELETE FROM ${environment.db.of(deviceTable)} WHERE id = ?`, [id])).affectedRows > 0;
    });
  }

  /** Retires devices that were not seen since a time; returns how many. */
  async retireUnseen(environment: Environment, since: Date, days: number, now: Date): Promise<number> {
    const { affectedRows } = await environment.db.change(
      `UPDATE ${environment.db.of(deviceTable)} SET retiredAt = ?, retiredReason = ?, updatedAt = ? WHERE retiredAt IS NULL AND lastSeenAt < ?`,
      [now, `It has not been seen for ${days} days.`, now, since],
    );
    return affectedRows;
  }

  /** A user signed out on the device: it has no user now. */
  async signOut(environment: Environment, id: string, userId: string): Promise<void> {
    await environment.db.change(`UPDATE ${environment.db.of(deviceTable)} SET userId = NULL, updatedAt = ? WHERE id = ? AND userId = ?`, [
      new Date(this.parts.now()),
      id,
      userId,
    ]);
  }

  /** The devices of a removed user have no user. */
  async releaseUser(on: Statements, environment: Environment, userId: string): Promise<void> {
    await on.change(`UPDATE ${environment.db.of(deviceTable)} SET userId = NULL WHERE userId = ?`, [userId]);
  }

  async ofUser(environment: Environment, userId: string): Promise<Device[]> {
    const devices = environment.db.table(deviceTable);
    const rows = await environment.db.orm.select().from(devices).where(eq(devices.userId, userId));
    return Promise.all(rows.map((row) => this.present(environment, row)));
  }

  /** The time zones of devices in use. */
  async zones({ db }: Pick<Environment, 'db'>): Promise<string[]> {
    const rows = await db.rows<{ zone: string }>(`SELECT DISTINCT timeZone AS zone FROM ${db.of(deviceTable)} WHERE userId IS NOT NULL`);
    return rows.map(({ zone }) => zone);
  }

  /** What each of these users carries; users without a device are left out. */
  async carriedBy(environment: Environment, userIds: readonly string[]): Promise<Map<string, Carried>> {
    if (userIds.length === 0) return new Map();
    const devices = environment.db.table(deviceTable);
    const rows = await environment.db.orm
      .select()
      .from(devices)
      .where(inArray(devices.userId, [...userIds]))
      .orderBy(desc(devices.lastSeenAt));
    const ways = pushWaysOf(await this.parts.gateways.rows(environment));
    const carried = new Map<string, Carried>();
    for (const row of rows) {
      const why = whyNot(row, ways);
      const known = carried.get(row.userId as string) ?? { zone: row.timeZone, reachable: 0, why };
      carried.set(row.userId as string, { ...known, reachable: known.reachable + (why === null ? 1 : 0) });
    }
    return carried;
  }

  async list(environment: Environment, request: ListRequest, ground: ListGround) {
    await prepareBehaviour(this.parts, environment, request.filter);
    const plan = planList(
      await deviceColumns(this.parts, environment),
      { ...request, sort: request.sort || '-lastSeenAt' },
      { field: 'id', descending: false },
      ground,
      deviceFunctions(this.parts, environment),
    );
    const rows = await environment.db.rows<DeviceRow>(
      `SELECT v.* FROM ${environment.db.of(deviceTable)} v WHERE ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      plan.values,
    );
    const ways = pushWaysOf(await this.parts.gateways.rows(environment));
    return cutPage(
      rows,
      plan,
      ground,
      (row, field) => row[field as keyof DeviceRow],
      (row) => presentDevice(row, ways),
    );
  }

  /** Retires devices whose address has expired, unless they have sent a new one meanwhile. */
  async retire(environment: Environment, gone: readonly GoneDevice[], now: Date): Promise<void> {
    for (let at = 0; at < gone.length; at += RETIRED_AT_ONCE) {
      const some = gone.slice(at, at + RETIRED_AT_ONCE);
      await environment.db.run(
        `UPDATE ${environment.db.of(deviceTable)} SET retiredAt = ?, updatedAt = ?, retiredReason = CASE id ${some.map(() => 'WHEN ? THEN ?').join(' ')} END
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

  /** Increments the badge number of these devices. */
  async addBadges(environment: Environment, ids: string[]): Promise<void> {
    if (ids.length > 0) await environment.db.run(`UPDATE ${environment.db.of(deviceTable)} SET badge = badge + 1 WHERE id IN (?)`, [ids]);
  }

  /** The web push keys that devices subscribed with; null for devices from before keys had names. */
  async pushKeysInUse({ db }: Environment): Promise<(string | null)[]> {
    const devices = db.table(deviceTable);
    const rows = await db.orm
      .selectDistinct({ pushKey: devices.pushKey })
      .from(devices)
      .where(and(isNotNull(devices.endpoint), isNull(devices.retiredAt)));
    return rows.map(({ pushKey }) => pushKey);
  }
}
