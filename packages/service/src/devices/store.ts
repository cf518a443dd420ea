/** Devices, as rows. */
import type { Device } from '@orchard/contract';
import { eq } from 'drizzle-orm';
import type { Database } from '../database/connection.js';
import { tablesOf } from '../database/environmentTables.js';
import { type ColumnKind, type Columns, cutPage, type ListGround, type ListRequest, planList } from '../database/listing.js';
import type { Environment } from '../http/call.js';

export type DeviceRow = ReturnType<typeof tablesOf>['devices']['$inferSelect'];

const column = (kind: ColumnKind) => (name: string) => [name, { sql: `\`${name}\``, kind }] as const;
const COLUMNS: Columns = new Map([
  ...['id', 'userId', 'client', 'platform', 'appVersion', 'os', 'model', 'locale', 'timeZone', 'permission', 'retiredReason'].map(
    column('text'),
  ),
  ...['retiredAt', 'createdAt', 'updatedAt', 'lastSeenAt'].map(column('time')),
]);

/** Whether a notification would go out to it, and why in words. The same condition is SQL in notifications/store.ts. */
function reachOf(row: DeviceRow): { reachable: boolean; reach: string } {
  if (row.retiredAt) return { reachable: false, reach: `Retired: ${(row.retiredReason ?? 'no reason given').replace(/\.$/, '')}.` };
  if (row.permission === 'denied') return { reachable: false, reach: 'The person does not allow notifications.' };
  if (row.permission === 'unasked') return { reachable: false, reach: 'The person has not been asked to allow notifications.' };
  if (!row.endpoint) return { reachable: false, reach: 'It has sent no push subscription.' };
  return { reachable: true, reach: 'Registered, allowed and subscribed.' };
}

export function presentDevice(row: DeviceRow): Device {
  const { endpoint, p256dh: _p, auth: _a, ...rest } = row;
  return {
    ...rest,
    ...reachOf(row),
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
  constructor(private readonly database: Database) {}

  async find(environment: Environment, id: string): Promise<DeviceRow | null> {
    const { devices } = tablesOf(environment.database);
    return (await this.database.orm.select().from(devices).where(eq(devices.id, id)))[0] ?? null;
  }

  /** Writes a registration; a retired device that registers again is back. */
  async save(environment: Environment, row: DeviceRow): Promise<void> {
    const { devices } = tablesOf(environment.database);
    const { id: _id, createdAt: _created, ...changing } = row;
    await this.database.orm.insert(devices).values(row).onDuplicateKeyUpdate({ set: changing });
  }

  async update(environment: Environment, id: string, changes: Partial<DeviceRow>): Promise<void> {
    const { devices } = tablesOf(environment.database);
    await this.database.orm.update(devices).set(changes).where(eq(devices.id, id));
  }

  async remove(environment: Environment, id: string): Promise<boolean> {
    const { devices } = tablesOf(environment.database);
    const [result] = await this.database.orm.delete(devices).where(eq(devices.id, id));
    return result.affectedRows > 0;
  }

  async list(environment: Environment, request: ListRequest, ground: ListGround) {
    const plan = planList(COLUMNS, { ...request, sort: request.sort || '-lastSeenAt' }, { field: 'id', descending: false }, ground);
    const rows = await this.database.rows<DeviceRow>(
      `SELECT * FROM \`${environment.database}\`._devices WHERE ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      plan.values,
    );
    return cutPage(rows, plan, ground, (row, field) => row[field as keyof DeviceRow], presentDevice);
  }
}
