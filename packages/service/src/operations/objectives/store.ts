/** Objectives with their versions, and what evaluations found. */
import type { ConditionChange, ObjectiveSet } from '@orchard/contract';
import type { EnvironmentCondition } from '@orchard/core';
import { and, asc, desc, eq, gt, inArray, lte, sql } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { askEach } from '../../platform/database/askEach.js';
import type { Database } from '../../platform/database/connection.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { storedJson } from '../../platform/database/storedJson.js';
import type { Change, Evaluated, Findings, StoredSettling } from './findings.js';
import { conditionTable } from './systemTables.js';
import { conditionChangeTable, objectiveSetTable } from './tables.js';

type SetRow = typeof objectiveSetTable.$inferSelect;
const AT_ONCE = 200;

/** The version in force, or the one that was at a time; null before there was any. */
export async function readSet({ db }: Pick<Environment, 'db'>, at?: Date): Promise<SetRow | null> {
  const sets = db.table(objectiveSetTable);
  const [row] = await db.orm
    .select()
    .from(sets)
    .where(at ? lte(objectiveSetTable.at, at) : undefined)
    .orderBy(desc(objectiveSetTable.version))
    .limit(1);
  return row ? { ...row, items: storedJson(row.items) } : null;
}

/** Those that have no objectives, or cannot be asked. */
export async function withoutObjectives(environments: readonly Environment[]): Promise<Environment[]> {
  const versions = await askEach<number, Environment>(environments, versionSql);
  return environments.filter((one) => !Number(versions.get(one)));
}

export async function readSets({ db }: Pick<Environment, 'db'>): Promise<SetRow[]> {
  const rows = await db.orm.select().from(db.table(objectiveSetTable)).orderBy(desc(objectiveSetTable.version));
  return rows.map((row) => ({ ...row, items: storedJson(row.items) }));
}

/** Stores the next version. @throws a duplicate key when another was stored at the same moment */
export async function addSet({ db }: Pick<Environment, 'db'>, set: Omit<SetRow, 'version'>, before: number): Promise<void> {
  await db.orm.insert(db.table(objectiveSetTable)).values({ ...set, version: before + 1 });
}

export const presentSet = ({ actors }: Pick<Environment, 'actors'>, { items, version, at, actor, why }: SetRow): ObjectiveSet => ({
  items,
  version,
  at: at.toISOString(),
  by: actors.show(actor),
  why,
});

/** SQL for the number of the version in force, as a row that stands among counts. */
export const versionSql = (db: EnvironmentDatabase): string => `SELECT COALESCE(MAX(version), 0) FROM ${db.of(objectiveSetTable)}`;

/** Notes changes of condition. */
export async function addChange({ db }: Pick<Environment, 'db'>, change: Change): Promise<void> {
  await db.orm.insert(db.table(conditionChangeTable)).values({ ...change, at: new Date(change.at) });
}

const presentChange = ({ at, condition, objective, value, text }: typeof conditionChangeTable.$inferSelect): ConditionChange => ({
  at: at.toISOString(),
  condition: condition as EnvironmentCondition,
  objective,
  value,
  text,
});

/** The changes in a period, and the condition before it. */
export async function readChanges(
  { db }: Pick<Environment, 'db'>,
  from: Date,
  until: Date,
): Promise<{ before: EnvironmentCondition; changes: ConditionChange[] }> {
  const changes = db.table(conditionChangeTable);
  const { at, number } = conditionChangeTable;
  const [earlier] = await db.orm.select().from(changes).where(lte(at, from)).orderBy(desc(at), desc(number)).limit(1);
  const rows = await db.orm
    .select()
    .from(changes)
    .where(and(gt(at, from), lte(at, until)))
    .orderBy(asc(at), asc(number));
  return { before: (earlier?.condition as EnvironmentCondition | undefined) ?? 'dormant', changes: rows.map(presentChange) };
}

export type StoredCondition = {
  environmentId: string;
  condition: EnvironmentCondition;
  since: Date;
  evaluatedAt: Date;
  settling: StoredSettling;
  findings: Findings;
};

/** What was found last, by environment. */
export async function readConditions({ orm }: Pick<Database, 'orm'>, ids?: readonly string[]): Promise<Map<string, StoredCondition>> {
  const rows = await orm
    .select()
    .from(conditionTable)
    .where(ids ? inArray(conditionTable.environmentId, [...ids]) : undefined);
  return new Map(
    rows.map((row) => [
      row.environmentId,
      {
        ...row,
        condition: row.condition as EnvironmentCondition,
        settling: storedJson(row.settling),
        findings: storedJson(row.findings),
      },
    ]),
  );
}

/** Stores what one evaluation found, a few hundred environments in a statement. */
export async function saveConditions({ orm }: Pick<Database, 'orm'>, found: readonly Evaluated[], evaluatedAt: Date): Promise<void> {
  for (let from = 0; from < found.length; from += AT_ONCE) {
    const rows = found.slice(from, from + AT_ONCE).map(({ environmentId, settling, findings }) => ({
      environmentId,
      condition: settling.condition,
      since: new Date(settling.since),
      evaluatedAt,
      settling: { next: settling.next, nextSince: settling.nextSince },
      findings,
    }));
    const set = Object.fromEntries(
      ['condition', 'since', 'evaluatedAt', 'settling', 'findings'].map((name) => [name, sql.raw(`VALUES(\`${name}\`)`)]),
    );
    await orm.insert(conditionTable).values(rows).onDuplicateKeyUpdate({ set });
  }
}

/** An environment was deleted. */
export async function removeConditions({ orm }: Pick<Database, 'orm'>, kept: ReadonlySet<string>): Promise<void> {
  const rows = await orm.select({ id: conditionTable.environmentId }).from(conditionTable);
  for (const { id } of rows) if (!kept.has(id)) await orm.delete(conditionTable).where(eq(conditionTable.environmentId, id));
}
