/** Broadcasts and who watches them, as rows. */
import { and, desc, eq, gt, inArray, lt, ne, sql } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { broadcastTable, broadcastViewerTable } from './tables.js';

export type BroadcastRow = typeof broadcastTable.$inferSelect;
type State = BroadcastRow['state'];

export async function addBroadcast({ db }: Environment, row: BroadcastRow): Promise<void> {
  await db.orm.insert(db.table(broadcastTable)).values(row);
}

export async function findBroadcast({ db }: Environment, id: string): Promise<BroadcastRow | null> {
  const [row] = await db.orm.select().from(db.table(broadcastTable)).where(eq(broadcastTable.id, id));
  return row ?? null;
}

export async function findBySecret({ db }: Environment, secret: string): Promise<BroadcastRow | null> {
  const [row] = await db.orm.select().from(db.table(broadcastTable)).where(eq(broadcastTable.secret, secret));
  return row ?? null;
}

export const listBroadcasts = ({ db }: Environment, state: State | undefined, limit: number): Promise<BroadcastRow[]> =>
  db.orm
    .select()
    .from(db.table(broadcastTable))
    .where(state === undefined ? undefined : eq(broadcastTable.state, state))
    .orderBy(desc(broadcastTable.createdAt))
    .limit(limit);

export async function countOpen({ db }: Environment): Promise<number> {
  const [row] = await db.orm.select({ n: sql<number>`COUNT(*)` }).from(db.table(broadcastTable)).where(ne(broadcastTable.state, 'ended'));
  return Number(row?.n ?? 0);
}

/** Changes a broadcast that has not ended. @returns whether it had not */
export async function changeOpen({ db }: Environment, id: string, changes: Partial<BroadcastRow>): Promise<boolean> {
  const [{ affectedRows }] = await db.orm
    .update(db.table(broadcastTable))
    .set(changes)
    .where(and(eq(broadcastTable.id, id), ne(broadcastTable.state, 'ended')));
  return affectedRows > 0;
}

export async function noteRecording({ db }: Environment, id: string, recording: string | null, trouble: string | null): Promise<void> {
  await db.orm
    .update(db.table(broadcastTable))
    .set({ ...(recording === null ? {} : { recording }), ...(trouble === null ? {} : { trouble }) })
    .where(eq(broadcastTable.id, id));
}

/** Broadcasts of which nothing arrived since a moment. */
export const silentSince = ({ db }: Environment, before: Date): Promise<BroadcastRow[]> =>
  db.orm
    .select()
    .from(db.table(broadcastTable))
    .where(and(ne(broadcastTable.state, 'ended'), lt(broadcastTable.lastAt, before)));

/** Broadcasts that ended before a moment. */
export const endedBefore = ({ db }: Environment, before: Date): Promise<BroadcastRow[]> =>
  db.orm
    .select()
    .from(db.table(broadcastTable))
    .where(and(eq(broadcastTable.state, 'ended'), lt(broadcastTable.endedAt, before)))
    .limit(500);

export async function removeBroadcasts({ db }: Environment, ids: readonly string[]): Promise<void> {
  if (ids.length === 0) return;
  await db.orm.delete(db.table(broadcastTable)).where(inArray(broadcastTable.id, [...ids]));
  await db.orm.delete(db.table(broadcastViewerTable)).where(inArray(broadcastViewerTable.broadcastId, [...ids]));
}

export async function noteViewer(
  { db }: Environment,
  at: { broadcastId: string; viewer: string; userId: string | null },
  now: Date,
  until: Date,
): Promise<void> {
  await db.orm
    .insert(db.table(broadcastViewerTable))
    .values({ ...at, since: now, until })
    .onDuplicateKeyUpdate({ set: { until } });
}

export const viewersNow = ({ db }: Environment, broadcastId: string, now: Date) =>
  db.orm
    .select({ userId: broadcastViewerTable.userId, since: broadcastViewerTable.since })
    .from(db.table(broadcastViewerTable))
    .where(and(eq(broadcastViewerTable.broadcastId, broadcastId), gt(broadcastViewerTable.until, now)))
    .orderBy(broadcastViewerTable.since)
    .limit(1000);

export async function countViewers({ db }: Environment, ids: readonly string[], now: Date): Promise<Map<string, number>> {
  if (ids.length === 0) return new Map();
  const rows = await db.orm
    .select({ id: broadcastViewerTable.broadcastId, n: sql<number>`COUNT(*)` })
    .from(db.table(broadcastViewerTable))
    .where(and(inArray(broadcastViewerTable.broadcastId, [...ids]), gt(broadcastViewerTable.until, now)))
    .groupBy(broadcastViewerTable.broadcastId);
  return new Map(rows.map(({ id, n }) => [id, Number(n)]));
}
