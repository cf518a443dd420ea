/**
 * The change feed, as rows: triggers of collections write entries without a number, and numbers are given to what has
 * committed. Raw SQL: numbering and deleting are bulk statements around locks.
 */
import { setTimeout as sleep } from 'node:timers/promises';
import type { EnvironmentDatabase } from '../database/environmentDatabase.js';
import { isConflict } from '../database/errors.js';
import { feedCounterTable, feedTable } from './tables.js';

export type FeedRow = {
  number: number;
  collection: string;
  recordId: string;
  action: 'create' | 'update' | 'delete';
  version: number;
  at: Date;
  by: string;
  before: string | null;
  after: string | null;
};

const NUMBER_AT_ONCE = 2_000;
const END_AT_ONCE = 10_000;
/** Before numbers are given again that another node was giving. */
const MOST_WAIT_MS = 20;

/** Numbers everything committed, and returns the highest number. */
export async function settleFeed(db: EnvironmentDatabase): Promise<number> {
  for (;;) {
    const [state] = await db.rows<{ highest: number; pending: number }>(
      `SELECT number AS highest, EXISTS (SELECT 1 FROM ${db.of(feedTable)} WHERE number = 0) AS pending FROM ${db.of(feedCounterTable)}`,
    );
    if (!Number(state?.pending)) return Number(state?.highest ?? 0);
    const numbered = await numberSome(db).catch(lostToAnother);
    if (numbered && !numbered.more) return numbered.highest;
    // Another node of a cluster has numbered them, or is about to.
    if (!numbered) await sleep(Math.random() * MOST_WAIT_MS);
  }
}

const lostToAnother = (error: unknown): null => {
  if (isConflict(error)) return null;
  throw error;
};

/**
 * Numbers come from one row, locked until they are assigned, so that they stay consecutive: on a Galera cluster too, where
 * the second of two conflicting commits fails and is retried.
 */
function numberSome(db: EnvironmentDatabase): Promise<{ highest: number; more: boolean }> {
  return db.transaction(async (on) => {
    const [counter] = await on.rows<{ number: number }>(`SELECT number FROM ${db.of(feedCounterTable)} FOR UPDATE`);
    const base = Number(counter?.number ?? 0);
    const pending = await on.rows<{ entry: number }>(
      `SELECT entry FROM ${db.of(feedTable)} WHERE number = 0 ORDER BY entry LIMIT ${NUMBER_AT_ONCE}`,
    );
    if (pending.length === 0) return { highest: base, more: false };
    const highest = base + pending.length;
    // Entries are named one by one: a range would wait for those between them that have not committed.
    await on.run('SET @orchard_number := ?', [base]);
    await on.run(`UPDATE ${db.of(feedTable)} SET number = (@orchard_number := @orchard_number + 1) WHERE entry IN (?) ORDER BY entry`, [
      pending.map(({ entry }) => entry),
    ]);
    await on.change(`UPDATE ${db.of(feedCounterTable)} SET number = ?`, [highest]);
    return { highest, more: pending.length === NUMBER_AT_ONCE };
  });
}

/** The lowest number that is still kept; 0 when there is none. */
export async function oldestNumber(db: EnvironmentDatabase): Promise<number> {
  const [row] = await db.rows<{ number: number }>(`SELECT COALESCE(MIN(number), 0) AS number FROM ${db.of(feedTable)} WHERE number > 0`);
  return Number(row?.number ?? 0);
}

export function readEntries(db: EnvironmentDatabase, after: number, limit: number): Promise<FeedRow[]> {
  return db.rows(
    `SELECT number, collection, recordId, action, version, at, \`by\`, \`before\`, \`after\` FROM ${db.of(feedTable)} WHERE number > ? ORDER BY number LIMIT ${limit}`,
    [after],
  );
}

export type ChangedRecord = { number: number; collection: string; recordId: string };

/** Which records of some collections changed after a number, up to another; in order, and as often as they did. */
export function readChanged(
  db: EnvironmentDatabase,
  collections: readonly string[],
  { after, until }: { after: number; until: number },
  limit: number,
): Promise<ChangedRecord[]> {
  return db.runRows(
    `SELECT number, collection, recordId FROM ${db.of(feedTable)} WHERE number > ? AND number <= ? AND collection IN (?) ORDER BY number LIMIT ${limit}`,
    [after, until, collections],
  );
}

/** Deletes entries from before a time; the newest stays, so that numbers go on from it. */
export async function endEntries(db: EnvironmentDatabase, at: Date): Promise<void> {
  const [top] = await db.rows<{ number: number }>(`SELECT COALESCE(MAX(number), 0) AS number FROM ${db.of(feedTable)}`);
  for (;;) {
    const { affectedRows } = await db.change(
      `DELETE FROM ${db.of(feedTable)} WHERE at < ? AND number > 0 AND number < ? ORDER BY at LIMIT ${END_AT_ONCE}`,
      [at, top?.number ?? 0],
    );
    if (affectedRows < END_AT_ONCE) return;
  }
}
