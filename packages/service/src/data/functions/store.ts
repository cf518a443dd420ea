/** Functions, their versions and runs, and secrets, as rows. */
import type { FunctionRun, FunctionShown } from '@orchard/contract';
import { and, asc, avg, count, desc, eq, gt, inArray, lt, max, sql } from 'drizzle-orm';
import type { Statements } from '../../platform/database/connection.js';
import { type Columns, cutPage, type ListGround, type ListRequest, plainColumns, planList } from '../../platform/database/listing.js';
import { storedJson } from '../../platform/database/storedJson.js';
import type { Environment } from '../../platform/call.js';
import { functionRunTable, functionTable, functionVersionTable, secretTable } from './tables.js';

export type FunctionRow = typeof functionTable.$inferSelect;
export type VersionRow = typeof functionVersionTable.$inferSelect;
export type RunRow = typeof functionRunTable.$inferSelect;
export type SecretRow = typeof secretTable.$inferSelect;
const DAY_MS = 86_400_000;
/** A row has up to half a megabyte of log. */
const ROWS_A_STATEMENT = 20;
const RUNS: Columns = new Map([
  ...plainColumns({ text: ['id', 'outcome', 'error', 'userId'], number: ['version', 'status', 'durationUs', 'cpuUs'], time: ['at'] }),
  ['durationMs', { sql: '(`durationUs` / 1000)', kind: 'number' as const }],
  ['cpuMs', { sql: '(`cpuUs` / 1000)', kind: 'number' as const }],
]);

export class FunctionStore {
  list({ db }: Environment): Promise<FunctionRow[]> {
    const table = db.table(functionTable);
    return db.orm.select().from(table).orderBy(asc(table.name));
  }

  async find({ db }: Environment, name: string): Promise<FunctionRow | null> {
    const table = db.table(functionTable);
    return (await db.orm.select().from(table).where(eq(table.name, name)))[0] ?? null;
  }

  /** A text that changes whenever a function of the environment does. */
  async mark({ db }: Environment): Promise<string> {
    const table = db.table(functionTable);
    const [row] = await db.orm.select({ n: count(), at: max(table.changedAt), sum: sql<number>`SUM(version)` }).from(table);
    return `${row?.n} ${row?.at?.getTime()} ${row?.sum}`;
  }

  /** Saves a version, and the function as it is with it. */
  async save({ db }: Environment, row: FunctionRow, version: VersionRow | null): Promise<void> {
    const { createdAt: _c, createdBy: _b, ...changing } = row;
    await db.orm.transaction(async (on) => {
      await on.insert(db.table(functionTable)).values(row).onDuplicateKeyUpdate({ set: changing });
      if (version) await on.insert(db.table(functionVersionTable)).values(version);
    });
  }

  async remove({ db }: Environment, name: string): Promise<void> {
    await db.orm.transaction(async (on) => {
      for (const table of [functionTable, functionVersionTable, functionRunTable] as const) {
        const here = db.table(table as typeof functionTable);
        await on.delete(here).where(eq(here.name, name));
      }
    });
  }

  /** The functions that have a version in force, with its files as JavaScript. */
  async inForce({ db }: Environment): Promise<{ row: FunctionRow; built: string }[]> {
    const [table, versions] = [db.table(functionTable), db.table(functionVersionTable)];
    return db.orm
      .select({ row: table, built: versions.built })
      .from(table)
      .innerJoin(versions, and(eq(versions.name, table.name), eq(versions.version, table.version)));
  }

  versions({ db }: Environment, name: string): Promise<VersionRow[]> {
    const table = db.table(functionVersionTable);
    return db.orm.select().from(table).where(eq(table.name, name)).orderBy(desc(table.version)).limit(100);
  }

  async version({ db }: Environment, name: string, version: number): Promise<VersionRow | null> {
    const table = db.table(functionVersionTable);
    return (
      (
        await db.orm
          .select()
          .from(table)
          .where(and(eq(table.name, name), eq(table.version, version)))
      )[0] ?? null
    );
  }

  async latestVersion({ db }: Environment, name: string): Promise<number> {
    const table = db.table(functionVersionTable);
    const [row] = await db.orm
      .select({ latest: max(table.version) })
      .from(table)
      .where(eq(table.name, name));
    return row?.latest ?? 0;
  }

  async present(environment: Environment, rows: readonly FunctionRow[], now: number): Promise<FunctionShown[]> {
    const { db } = environment;
    const [runs, versions] = [db.table(functionRunTable), db.table(functionVersionTable)];
    const names = rows.map(({ name }) => name);
    if (names.length === 0) return [];
    const days = await db.orm
      .select({ name: runs.name, n: count(), failed: sql<number>`COALESCE(SUM(failed), 0)`, mean: avg(runs.durationUs) })
      .from(runs)
      .where(and(inArray(runs.name, names), gt(runs.at, new Date(now - DAY_MS))))
      .groupBy(runs.name);
    const latest = await db.orm
      .select({ name: versions.name, version: max(versions.version) })
      .from(versions)
      .where(inArray(versions.name, names))
      .groupBy(versions.name);
    return rows.map((row) => {
      const day = days.find(({ name }) => name === row.name);
      return {
        name: row.name,
        kind: row.kind as FunctionShown['kind'],
        path: row.path,
        methods: storedJson(row.methods as never) as unknown as FunctionShown['methods'],
        callers: row.callers as FunctionShown['callers'],
        rights: row.rights as FunctionShown['rights'],
        hosts: storedJson(row.hosts as never) as unknown as string[],
        version: row.version,
        versions: latest.find(({ name }) => name === row.name)?.version ?? 0,
        createdAt: row.createdAt.toISOString(),
        changedAt: row.changedAt.toISOString(),
        runs: { count: day?.n ?? 0, failed: Number(day?.failed ?? 0), meanMs: day?.mean ? Math.round(Number(day.mean) / 10) / 100 : null },
      };
    });
  }

  async addRuns({ db }: Environment, rows: RunRow[]): Promise<void> {
    for (let from = 0; from < rows.length; from += ROWS_A_STATEMENT)
      await db.orm.insert(db.table(functionRunTable)).values(rows.slice(from, from + ROWS_A_STATEMENT));
  }

  async runs({ db }: Environment, name: string, request: ListRequest, ground: ListGround) {
    const plan = planList(RUNS, { ...request, sort: request.sort || '-at' }, { field: 'id', descending: true }, ground);
    const rows = await db.rows<RunRow>(
      `SELECT * FROM ${db.of(functionRunTable)} WHERE name = ? AND ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      [name, ...plan.values],
    );
    return cutPage(
      rows,
      plan,
      ground,
      (row, field) => row[field as keyof RunRow],
      ({ id, version, at, durationUs, cpuUs, outcome, status, error, details, userId }): FunctionRun => ({
        id,
        version,
        at: at.toISOString(),
        durationMs: durationUs / 1000,
        cpuMs: cpuUs / 1000,
        outcome: outcome as FunctionRun['outcome'],
        status,
        error,
        userId,
        ...(storedJson(details) as unknown as Pick<FunctionRun, 'log' | 'calls'>),
      }),
    );
  }

  async forgetRuns({ db }: Environment, before: Date): Promise<void> {
    const table = db.table(functionRunTable);
    await db.orm.delete(table).where(lt(table.at, before));
  }

  async releaseUser(on: Statements, { db }: Environment, userId: string): Promise<void> {
    await on.change(`UPDATE ${db.of(functionRunTable)} SET userId = NULL WHERE userId = ?`, [userId]);
  }

  secrets({ db }: Environment): Promise<SecretRow[]> {
    const table = db.table(secretTable);
    return db.orm.select().from(table).orderBy(asc(table.name));
  }

  async secret({ db }: Environment, name: string): Promise<SecretRow | null> {
    const table = db.table(secretTable);
    return (await db.orm.select().from(table).where(eq(table.name, name)))[0] ?? null;
  }

  async putSecret({ db }: Environment, row: SecretRow): Promise<void> {
    const { name: _, ...changing } = row;
    await db.orm.insert(db.table(secretTable)).values(row).onDuplicateKeyUpdate({ set: changing });
  }

  async removeSecret({ db }: Environment, name: string): Promise<boolean> {
    const table = db.table(secretTable);
    const [{ affectedRows }] = await db.orm.delete(table).where(eq(table.name, name));
    return affectedRows > 0;
  }
}
