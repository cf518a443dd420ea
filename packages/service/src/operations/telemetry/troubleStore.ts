/** Refused, failed and slow calls of chosen users and devices. */
import { SAMPLING } from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { requestTable } from './tables.js';

export type TroubledCall = {
  id: string;
  at: Date;
  method: string;
  route: string;
  target: string | null;
  /** Null: it was slow. */
  problem: string | null;
  userId: string | null;
  deviceId: string | null;
  /** For how many calls like it the row stands. */
  keptOf: number;
};
export type Troubled = { from: number; until: number; users: readonly string[]; devices: readonly string[] };

/** In order of time. Raw SQL: the driver writes out the lists. */
export async function troubledCalls(db: EnvironmentDatabase, { from, until, users, devices }: Troubled): Promise<TroubledCall[]> {
  const who = [...(users.length > 0 ? ['userId IN (?)'] : []), ...(devices.length > 0 ? ['deviceId IN (?)'] : [])];
  if (who.length === 0) return [];
  return db.runRows<TroubledCall>(
    `SELECT id, at, method, route, target, problem, userId, deviceId, keptOf FROM ${db.of(requestTable)}
     WHERE at >= ? AND at < ? AND direction = 'in' AND (status >= 400 OR durationUs >= ?) AND (${who.join(' OR ')}) ORDER BY at, id`,
    [new Date(from), new Date(until), SAMPLING.slowUs, ...(users.length > 0 ? [users] : []), ...(devices.length > 0 ? [devices] : [])],
  );
}

/** When the earliest kept call was made; null when there is none. */
export async function earliestCall(db: EnvironmentDatabase): Promise<Date | null> {
  const [row] = await db.rows<{ at: Date }>(`SELECT at FROM ${db.of(requestTable)} ORDER BY at LIMIT 1`);
  return row?.at ?? null;
}
