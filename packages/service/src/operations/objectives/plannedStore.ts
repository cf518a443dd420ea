/** Planned work: announced, it disturbs nobody. */
import { type PlannedWork, Problem } from '@orchard/contract';
import { desc, eq, gt } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { plannedWorkTable } from './tables.js';

type Row = typeof plannedWorkTable.$inferSelect;
export type Stretch = { from: number; until: number };

const present = ({ actors }: Pick<Environment, 'actors'>, { from, until, by, ...row }: Row): PlannedWork => ({
  ...row,
  from: from.toISOString(),
  until: until.toISOString(),
  by: actors.show(by),
});

export async function listPlanned(environment: Pick<Environment, 'db' | 'actors'>): Promise<PlannedWork[]> {
  const { db } = environment;
  const rows = await db.orm.select().from(db.table(plannedWorkTable)).orderBy(desc(plannedWorkTable.from)).limit(500);
  return rows.map((row) => present(environment, row));
}

/** @throws {Problem} invalid-input */
export async function addPlanned(environment: Environment, row: Row): Promise<PlannedWork> {
  if (row.until <= row.from)
    throw new Problem('invalid-input', 'The work ends before it begins.', {
      fields: [{ path: 'body.until', problem: 'It is not after `from`.', expected: 'a later time' }],
    });
  await environment.db.orm.insert(environment.db.table(plannedWorkTable)).values(row);
  return present(environment, row);
}

/** @throws {Problem} not-found */
export async function removePlanned({ db }: Pick<Environment, 'db'>, id: string): Promise<void> {
  const [{ affectedRows }] = await db.orm.delete(db.table(plannedWorkTable)).where(eq(plannedWorkTable.id, id));
  if (affectedRows === 0) throw new Problem('not-found', `There is no planned work ${id}.`);
}

/** What is planned from a time on. */
export async function plannedSince({ db }: Pick<Environment, 'db'>, since: Date): Promise<Stretch[]> {
  const rows = await db.orm.select().from(db.table(plannedWorkTable)).where(gt(plannedWorkTable.until, since));
  return rows.map(({ from, until }) => ({ from: from.getTime(), until: until.getTime() }));
}

/** SQL for a number that moves when planned work changes. */
export const plannedMarkSql = (db: EnvironmentDatabase): string =>
  `SELECT COALESCE(SUM(CRC32(CONCAT(id, \`from\`, \`until\`))), 0) FROM ${db.of(plannedWorkTable)}`;
