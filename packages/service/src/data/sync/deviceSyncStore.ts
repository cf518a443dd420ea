/** How far devices are, as rows. Raw SQL: counts are added up in the statement, and the list joins devices. */
import type { DeviceSync } from '@orchard/contract';
import { devicesSql } from '../../messages/devices/devicesSql.js';
import type { Environment } from '../../platform/call.js';
import { type Columns, type ListGround, type ListRequest, listRows, plainColumns } from '../../platform/database/listing.js';
import { deviceSyncTable } from './tables.js';

type Row = Omit<DeviceSync, 'at' | 'behind'> & { at: Date };
/** What is noted of a pull or push; what is left out stays as it was. */
export type Noted = {
  device: string;
  number?: number | undefined;
  pending?: number | undefined;
  conflicts?: number | undefined;
  scopes?: number | undefined;
  taken?: number;
  refused?: number;
  problem?: string | null;
};

const COLUMNS: Columns = new Map([
  ...plainColumns(
    { text: ['device', 'problem'], number: ['number', 'pending', 'conflicts', 'scopes', 'taken', 'refused'], time: ['at'] },
    's',
  ),
  ...plainColumns({ text: ['userId', 'client', 'appVersion'] }, 'v'),
]);
const sourceOf = ({ db }: Environment) =>
  `SELECT s.*, v.userId, v.client, v.appVersion FROM ${db.of(deviceSyncTable)} s JOIN ${devicesSql(db)} ON v.id = s.device`;

export async function noteSync({ db }: Environment, noted: Noted, at: Date): Promise<void> {
  const { device, number, pending, conflicts, scopes, taken = 0, refused = 0, problem } = noted;
  const keeps = (name: string, value: unknown) => (value === undefined ? '' : `, ${name} = VALUES(${name})`);
  await db.change(
    `INSERT INTO ${db.of(deviceSyncTable)} (device, at, number, pending, conflicts, scopes, taken, refused, problem)
     VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
     ON DUPLICATE KEY UPDATE at = VALUES(at), taken = taken + VALUES(taken), refused = refused + VALUES(refused)${keeps('number', number)}${keeps('pending', pending)}${keeps('conflicts', conflicts)}${keeps('scopes', scopes)}${keeps('problem', problem)}`,
    [device, at, number ?? 0, pending ?? null, conflicts ?? null, scopes ?? 0, taken, refused, problem?.slice(0, 300) ?? null],
  );
}

const present = ({ at, ...row }: Row, highest: number): DeviceSync => ({
  device: row.device,
  userId: row.userId,
  client: row.client,
  appVersion: row.appVersion,
  at: at.toISOString(),
  number: Number(row.number),
  behind: Math.max(0, highest - Number(row.number)),
  pending: row.pending,
  conflicts: row.conflicts,
  scopes: row.scopes,
  taken: row.taken,
  refused: row.refused,
  problem: row.problem,
});

export function listSyncs(environment: Environment, request: ListRequest, ground: ListGround, highest: number) {
  const listed = { select: sourceOf(environment), columns: COLUMNS, sort: '-at', tie: { field: 'device', descending: false } };
  return listRows(environment.db, listed, request, ground, (row: Row) => present(row, highest));
}

export async function findSync(environment: Environment, device: string, highest: number): Promise<DeviceSync | null> {
  const [row] = await environment.db.rows<Row>(`${sourceOf(environment)} WHERE s.device = ?`, [device]);
  return row ? present(row, highest) : null;
}

/** Deletes what is known of devices that are no more. */
export async function endSyncs({ db }: Environment): Promise<void> {
  await db.change(`DELETE s FROM ${db.of(deviceSyncTable)} s LEFT JOIN ${devicesSql(db)} ON v.id = s.device WHERE v.id IS NULL`, []);
}
