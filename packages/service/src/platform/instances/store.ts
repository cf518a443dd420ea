/** Instances and what they tell each other about rates, as rows. */
import { and, eq, gt, lt, ne } from 'drizzle-orm';
import type { Database } from '../database/connection.js';
import { instanceTable, rateShareTable } from './systemTables.js';

type Ground = Pick<Database, 'orm'>;
export type InstanceRow = typeof instanceTable.$inferSelect;
export type RateShare = Pick<typeof rateShareTable.$inferSelect, 'rate' | 'who' | 'points'>;

/** Notes that an instance is there. */
export async function noteInstance({ orm }: Ground, row: InstanceRow): Promise<void> {
  const { seenAt, state, database, clockBehindMs } = row;
  await orm.insert(instanceTable).values(row).onDuplicateKeyUpdate({ set: { seenAt, state, database, clockBehindMs } });
}

export async function forgetInstance({ orm }: Ground, id: string): Promise<void> {
  await orm.delete(instanceTable).where(eq(instanceTable.id, id));
}

/** Those that were heard of since; the ones that were not for much longer are forgotten. */
export async function instancesSince({ orm }: Ground, since: Date, forgottenBefore: Date): Promise<InstanceRow[]> {
  const rows = await orm.select().from(instanceTable).orderBy(instanceTable.startedAt);
  if (rows.some(({ seenAt }) => seenAt < forgottenBefore)) await orm.delete(instanceTable).where(lt(instanceTable.seenAt, forgottenBefore));
  return rows.filter(({ seenAt }) => seenAt >= since);
}

export async function tellShares({ orm }: Ground, instance: string, shares: readonly RateShare[], at: Date): Promise<void> {
  if (shares.length > 0) await orm.insert(rateShareTable).values(shares.map((share) => ({ ...share, instance, at })));
}

/** What other instances have told since; each entry may come again. */
export function sharesSince({ orm }: Ground, instance: string, since: Date): Promise<(RateShare & { entry: number })[]> {
  const { entry, rate, who, points, at, instance: by } = rateShareTable;
  return orm
    .select({ entry, rate, who, points })
    .from(rateShareTable)
    .where(and(gt(at, since), ne(by, instance)));
}

export async function forgetShares({ orm }: Ground, before: Date): Promise<void> {
  await orm.delete(rateShareTable).where(lt(rateShareTable.at, before));
}
