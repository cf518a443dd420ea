/** Functions, their versions and runs, and secrets, as rows. */
import type { FunctionRun, FunctionShown, HookOn, Use } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { and, asc, avg, count, desc, eq, gt, inArray, lt, max, or, sql } from 'drizzle-orm';
import type { Statements } from '../../platform/database/connection.js';
import { type Columns, cutPage, type ListGround, type ListRequest, plainColumns, planList } from '../../platform/database/listing.js';
import type { Environment } from '../../platform/call.js';
import { nextOf } from './clock.js';
import { type CallRow, type FunctionRow, held, partOf, type RunRow, type SecretRow, type VersionRow } from './rows.js';
import { functionCallTable, functionRunTable, functionTable, functionVersionTable, secretTable } from './tables.js';

const DAY_MS = 86_400_000;
/** A row has up to half a megabyte of log. */
const ROWS_A_STATEMENT = 20;
const RUNS: Columns = new Map([
  ...plainColumns({
    text: ['id', 'cause', 'request', 'trace', 'outcome', 'error', 'userId'],
    number: ['attempt', 'version', 'status', 'durationUs', 'cpuUs'],
    time: ['at'],
  }),
  ['durationMs', { sql: '(`durationUs` / 1000)', kind: 'number' as const }],
  ['cpuMs', { sql: '(`cpuUs` / 1000)', kind: 'number' as const }],
]);

/** What belongs to the kind of a function alone. */
function placeShown(row: FunctionRow): Partial<FunctionShown> {
  if (row.kind === 'hook') return { on: held<HookOn>(row.on) };
  if (row.kind === 'schedule')
    return { clock: row.clock as string, zone: row.zone ?? 'UTC', missed: row.missed as NonNullable<FunctionShown['missed']> };
  return {
    path: row.path,
    methods: held<NonNullable<FunctionShown['methods']>>(row.methods),
    callers: row.callers as NonNullable<FunctionShown['callers']>,
    ...(row.input ? { input: held<JsonObject>(row.input) } : {}),
    ...(row.output ? { output: held<JsonObject>(row.output) } : {}),
  };
}

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
      for (const table of [functionTable, functionVersionTable, functionRunTable, functionCallTable] as const) {
        const here = db.table(table as typeof functionTable);
        await on.delete(here).where(eq(here.name, name));
      }
    });
  }

  /** The versions in force, and those that hold for some, with their files as JavaScript. */
  async inForce({ db }: Environment): Promise<{ row: FunctionRow; version: number; built: string }[]> {
    const [table, versions] = [db.table(functionTable), db.table(functionVersionTable)];
    const partial = sql`${versions.version} = JSON_VALUE(${table.part}, '$.version')`;
    return db.orm
      .select({ row: table, version: versions.version, built: versions.built })
      .from(table)
      .innerJoin(versions, and(eq(versions.name, table.name), or(eq(versions.version, table.version), partial)))
      .orderBy(asc(table.name));
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
    const waiting = await this.#waiting(environment, names);
    const last = await this.#lastRuns(environment, names);
    return rows.map((row) => {
      const day = days.find(({ name }) => name === row.name);
      const ended = last.find(({ name }) => name === row.name);
      return {
        name: row.name,
        kind: row.kind as FunctionShown['kind'],
        ...placeShown(row),
        rights: row.rights as FunctionShown['rights'],
        hosts: held<string[]>(row.hosts),
        part: partOf(row),
        nextAt: row.kind === 'schedule' && row.version > 0 ? (nextOf(row, new Date(now))?.toISOString() ?? null) : null,
        lastAt: ended?.at.toISOString() ?? null,
        lastOutcome: ended?.outcome ?? null,
        waiting: waiting.get(row.name) ?? 0,
        version: row.version,
        versions: latest.find(({ name }) => name === row.name)?.version ?? 0,
        createdAt: row.createdAt.toISOString(),
        changedAt: row.changedAt.toISOString(),
        runs: { count: day?.n ?? 0, failed: Number(day?.failed ?? 0), meanMs: day?.mean ? Math.round(Number(day.mean) / 10) / 100 : null },
      };
    });
  }

  async #waiting({ db }: Environment, names: readonly string[]): Promise<Map<string, number>> {
    const calls = db.table(functionCallTable);
    const rows = await db.orm.select({ name: calls.name, n: count() }).from(calls).where(inArray(calls.name, names)).groupBy(calls.name);
    return new Map(rows.map(({ name, n }) => [name, n]));
  }

  async #lastRuns({ db }: Environment, names: readonly string[]): Promise<{ name: string; at: Date; outcome: string }[]> {
    const runs = db.table(functionRunTable);
    const found = await Promise.all(
      names.map((name) =>
        db.orm
          .select({ name: runs.name, at: runs.at, outcome: runs.outcome })
          .from(runs)
          .where(eq(runs.name, name))
          .orderBy(desc(runs.at))
          .limit(1),
      ),
    );
    return found.flat();
  }

  async run({ db }: Environment, name: string, id: string): Promise<RunRow | null> {
    const table = db.table(functionRunTable);
    return (
      (
        await db.orm
          .select()
          .from(table)
          .where(and(eq(table.id, id), eq(table.name, name)))
      )[0] ?? null
    );
  }

  /** Adds a call that a job will make, in the transaction of what it follows from. Raw: the transaction is one of plain statements. */
  async addCall(on: Statements, { db }: Environment, { id, name, cause, order, createdAt }: CallRow): Promise<void> {
    await on.change(`INSERT INTO ${db.of(functionCallTable)} (id, name, cause, \`order\`, createdAt) VALUES (?, ?, ?, ?, ?)`, [
      id,
      name,
      cause,
      JSON.stringify(order),
      createdAt,
    ]);
  }

  async call({ db }: Environment, id: string): Promise<CallRow | null> {
    const table = db.table(functionCallTable);
    return (await db.orm.select().from(table).where(eq(table.id, id)))[0] ?? null;
  }

  async removeCall({ db }: Environment, id: string): Promise<void> {
    const table = db.table(functionCallTable);
    await db.orm.delete(table).where(eq(table.id, id));
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
      ({
        id,
        version,
        cause,
        request,
        trace,
        attempt,
        call,
        order,
        memoryKb,
        at,
        durationUs,
        cpuUs,
        outcome,
        status,
        error,
        details,
        userId,
      }): FunctionRun => ({
        id,
        version,
        cause,
        request,
        trace,
        attempt,
        key: call,
        memoryKb,
        event: order ? held<{ event: JsonObject }>(order).event : null,
        at: at.toISOString(),
        durationMs: durationUs / 1000,
        cpuMs: cpuUs / 1000,
        outcome: outcome as FunctionRun['outcome'],
        status,
        error,
        userId,
        ...held<Pick<FunctionRun, 'log' | 'calls'>>(details),
      }),
    );
  }

  /** Which functions called which collections and upstreams. Raw: the builder has no JSON_TABLE. */
  async uses({ db }: Environment, since: Date): Promise<Use[]> {
    const rows = await db.rows<{ name: string; version: number; what: string; about: string; n: number; lastAt: Date }>(
      `SELECT r.name, r.version, c.what, SUBSTRING_INDEX(c.about, '/', 1) AS about, COUNT(*) AS n, MAX(r.at) AS lastAt
       FROM ${db.of(functionRunTable)} r,
         JSON_TABLE(r.details, '$.calls[*]' COLUMNS (what VARCHAR(40) PATH '$.name', about VARCHAR(200) PATH '$.about')) c
       WHERE r.at >= ? AND (c.what LIKE 'records.%' OR c.what = 'upstreams.call')
       GROUP BY r.name, r.version, SUBSTRING_INDEX(c.what, '.', 1), SUBSTRING_INDEX(c.about, '/', 1) LIMIT 500`,
      [since],
    );
    return rows.map(({ name, version, what, about, n, lastAt }) => ({
      from: { kind: 'function', name, version: String(version) },
      to: { kind: what.startsWith('records.') ? 'collection' : 'upstream', name: about },
      count: Number(n),
      lastAt: lastAt.toISOString(),
    }));
  }

  async forgetRuns({ db }: Environment, before: Date): Promise<void> {
    const table = db.table(functionRunTable);
    await db.orm.delete(table).where(lt(table.at, before));
  }

  async releaseUser(on: Statements, { db }: Environment, userId: string): Promise<void> {
    await on.change(`UPDATE ${db.of(functionRunTable)} SET userId = NULL, \`order\` = NULL WHERE userId = ?`, [userId]);
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
