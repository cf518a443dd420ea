/** Standing notifications, and what was sent for which record, as rows. */
import type { SentForRecord, Standing, StandingDefinition } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { and, asc, count, eq, gt, inArray, lt, max } from 'drizzle-orm';
import type { Statements } from '../../platform/database/connection.js';
import { type Columns, cutPage, type ListGround, type ListRequest, plainColumns, planList } from '../../platform/database/listing.js';
import type { Environment } from '../../platform/call.js';
import { standingSentTable, standingTable } from './tables.js';

export type StandingRow = typeof standingTable.$inferSelect;
export type SentRow = typeof standingSentTable.$inferSelect;
const SENT: Columns = new Map(plainColumns({ text: ['record', 'value', 'userId', 'outcome', 'reason', 'notification'], time: ['at'] }));

/** The columns of a definition. */
export function rowOf({
  name,
  collection,
  field,
  filter,
  to,
  daysBefore,
  at,
  minutesBefore,
  zone,
  way,
  active,
  ...content
}: StandingDefinition) {
  return {
    name,
    collection,
    field,
    filter: filter || null,
    to,
    daysBefore: daysBefore ?? null,
    at: at ?? null,
    minutesBefore: minutesBefore ?? null,
    zone: zone ?? null,
    way,
    active,
    content: content as unknown as JsonObject,
  };
}

/** The definition of a row: without what it does not say. */
export function definitionOf(
  row: Omit<StandingRow, 'id' | 'createdBy' | 'createdAt' | 'changedAt' | 'checkedTo' | 'problem'>,
): StandingDefinition {
  const { name, collection, field, filter, to, daysBefore, at, minutesBefore, zone, way, active, content } = row;
  const given = Object.fromEntries(Object.entries({ filter, daysBefore, at, minutesBefore, zone }).filter(([, value]) => value !== null));
  return { ...content, ...given, name, collection, field, to, way, active } as StandingDefinition;
}

export class StandingStore {
  list({ db }: Environment): Promise<StandingRow[]> {
    const table = db.table(standingTable);
    return db.orm.select().from(table).orderBy(asc(table.name), asc(table.id));
  }

  active({ db }: Environment): Promise<StandingRow[]> {
    const table = db.table(standingTable);
    return db.orm.select().from(table).where(eq(table.active, true));
  }

  async find({ db }: Environment, id: string): Promise<StandingRow | undefined> {
    const table = db.table(standingTable);
    return (await db.orm.select().from(table).where(eq(table.id, id)))[0];
  }

  async add({ db }: Environment, row: StandingRow): Promise<void> {
    await db.orm.insert(db.table(standingTable)).values(row);
  }

  async change({ db }: Environment, id: string, changes: Partial<StandingRow>): Promise<void> {
    const table = db.table(standingTable);
    await db.orm.update(table).set(changes).where(eq(table.id, id));
  }

  async remove({ db }: Environment, id: string): Promise<void> {
    const [table, sent] = [db.table(standingTable), db.table(standingSentTable)];
    await db.orm.delete(table).where(eq(table.id, id));
    await db.orm.delete(sent).where(eq(sent.standingId, id));
  }

  async present(environment: Environment, rows: readonly StandingRow[], since: Date): Promise<Standing[]> {
    const { db, actors } = environment;
    const table = db.table(standingSentTable);
    if (rows.length === 0) return [];
    const ids = rows.map(({ id }) => id);
    const sent = await db.orm
      .select({ id: table.standingId, n: count(), last: max(table.at) })
      .from(table)
      .where(and(inArray(table.standingId, ids), eq(table.outcome, 'sent'), gt(table.at, since)))
      .groupBy(table.standingId);
    return rows.map((row) => {
      const own = sent.find(({ id }) => id === row.id);
      return {
        ...definitionOf(row),
        id: row.id,
        createdBy: actors.show(row.createdBy),
        createdAt: row.createdAt.toISOString(),
        changedAt: row.changedAt.toISOString(),
        checkedTo: row.checkedTo.toISOString(),
        problem: row.problem,
        sent: own?.n ?? 0,
        lastSentAt: own?.last?.toISOString() ?? null,
      };
    });
  }

  /**
   * Takes an occasion for this sender, in the transaction that sends; false when it was taken before.
   * Raw SQL: Drizzle does not say how many rows were new.
   */
  async take(on: Statements, { db }: Environment, row: SentRow): Promise<boolean> {
    const { affectedRows } = await on.change(
      `INSERT IGNORE INTO ${db.of(standingSentTable)} (standingId, record, value, at, userId, outcome, reason, notification) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
      [row.standingId, row.record, row.value, row.at, row.userId, row.outcome, row.reason, row.notification],
    );
    return affectedRows === 1;
  }

  async sent({ db }: Environment, standingId: string, request: ListRequest, ground: ListGround) {
    const plan = planList(SENT, { ...request, sort: request.sort || '-at' }, { field: 'record', descending: false }, ground);
    const rows = await db.rows<SentRow>(
      `SELECT record, value, at, userId, outcome, reason, notification FROM ${db.of(standingSentTable)} WHERE standingId = ? AND ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      [standingId, ...plan.values],
    );
    return cutPage(
      rows,
      plan,
      ground,
      (row, field) => row[field as keyof SentRow],
      (row): SentForRecord => ({ ...row, outcome: row.outcome as SentForRecord['outcome'], at: row.at.toISOString() }),
    );
  }

  async forget({ db }: Environment, before: Date): Promise<void> {
    const table = db.table(standingSentTable);
    await db.orm.delete(table).where(lt(table.at, before));
  }

  /** A removed user is no longer named. */
  async releaseUser(on: Statements, { db }: Environment, userId: string): Promise<void> {
    await on.change(`UPDATE ${db.of(standingSentTable)} SET userId = NULL WHERE userId = ?`, [userId]);
  }
}
