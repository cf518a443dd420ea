/** Cost of lists, by their form. */
import type { ListForm } from '@orchard/core';
import { and, desc, eq } from 'drizzle-orm';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { queryTable } from './tables.js';

export type ListCost = {
  collection: string;
  form: string;
  shape: ListForm;
  example: string;
  calls: number;
  totalUs: number;
  worstUs: number;
  lastAt: Date;
};
/** A form may hold the cost of its lists before an index was created for them. */
export type Before = { calls: number; meanMs: number };
export type StoredCost = Omit<ListCost, 'shape'> & { shape: ListForm & { before?: Before } };

/** Adds to the stored costs. Raw SQL: a bulk write. */
export async function addCosts(db: EnvironmentDatabase, costs: readonly ListCost[]): Promise<void> {
  await db.run(
    `INSERT INTO ${db.of(queryTable)} (collection, form, shape, example, calls, totalUs, worstUs, lastAt) VALUES ?
     ON DUPLICATE KEY UPDATE calls = calls + VALUES(calls), totalUs = totalUs + VALUES(totalUs), worstUs = GREATEST(worstUs, VALUES(worstUs)), lastAt = VALUES(lastAt), example = VALUES(example)`,
    [
      costs.map(({ collection, form, shape, example, calls, totalUs, worstUs, lastAt }) => [
        collection,
        form,
        JSON.stringify(shape),
        example,
        calls,
        Math.round(totalUs),
        Math.round(worstUs),
        lastAt,
      ]),
    ],
  );
}

/** The costliest forms of a collection's lists. */
export async function readCosts(db: EnvironmentDatabase, collection: string): Promise<StoredCost[]> {
  const table = db.table(queryTable);
  const rows = await db.orm.select().from(table).where(eq(table.collection, collection)).orderBy(desc(table.totalUs)).limit(50);
  return rows.map((row) => ({
    ...row,
    shape: (typeof row.shape === 'string' ? JSON.parse(row.shape) : row.shape) as StoredCost['shape'],
    calls: Number(row.calls),
    totalUs: Number(row.totalUs),
    worstUs: Number(row.worstUs),
  }));
}

/** Restarts the counts of a form, and remembers what it cost before. */
export async function countAnew(db: EnvironmentDatabase, { collection, form }: StoredCost, shape: StoredCost['shape']): Promise<void> {
  const table = db.table(queryTable);
  await db.orm
    .update(table)
    .set({ calls: 0, totalUs: 0, worstUs: 0, shape })
    .where(and(eq(table.collection, collection), eq(table.form, form)));
}
