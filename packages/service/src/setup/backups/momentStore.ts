/**
 * Brings a restored environment forward from its backup to a later moment, by the change feed: of records and users, for the
 * feed has no other. Before its triggers are made, so that nothing of it counts as a change.
 */
import { grouped } from '@orchard/core';
import { getTableName } from 'drizzle-orm';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { feedCounterTable, feedTable } from '../../platform/live/tables.js';
import { formsOf, type Image, writeImages } from './imageStore.js';

/** Entries that are read at a time. */
const SOME = 500;
/** A change that was under way when the backup was made is written once more, which changes nothing. */
const BEFORE_MS = 600_000;
/** Numbers of the feed that a machine which is gone may have given to devices. */
const BEYOND = 1_000_000_000;

type Entry = { entry: number; collection: string; recordId: string; by: string; after: string | null };
export type Forward = { changes: number; notes: string[] };

/**
 * @param from where the feed is read: the environment as it is now, or the tables of a later backup
 * @returns how many records and users are as they were at the moment, and not as in the backup
 */
export async function goForward(
  db: EnvironmentDatabase,
  from: { db: EnvironmentDatabase; feed: string },
  { since, until }: { since: Date; until: Date },
  tell: (doing: string) => Promise<void>,
): Promise<Forward> {
  const tables = new Set(
    (await db.rows<{ name: string }>('SELECT TABLE_NAME AS name FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?', [db.name])).map(
      ({ name }) => name,
    ),
  );
  const missing = new Set<string>();
  const unknown = new Set<string>();
  const changed = new Set<string>();
  let after = 0;
  for (;;) {
    const entries = await readEntries(from, since, until, after);
    if (entries.length === 0) break;
    await tell(`Bringing records and users forward: ${changed.size}`);
    after = Number(entries.at(-1)?.entry);
    for (const [table, own] of grouped(entries, ({ collection }) => collection)) {
      if (!tables.has(table)) missing.add(table);
      else for (const name of await writeEntries(db, table, own)) unknown.add(`${name} of ${table}`);
    }
    for (const { collection, recordId } of entries) changed.add(`${collection}/${recordId}`);
  }
  await copyFeed(db, from, until);
  return {
    changes: changed.size,
    notes: [
      ...[...missing].map((table) => `The collection ${table} was made after the backup: its records are not restored.`),
      ...[...unknown].map((field) => `The field ${field} was added after the backup: its values are not restored.`),
    ],
  };
}

/** Without what the feed knew of people who were erased: it is empty. */
function readEntries({ db, feed }: { db: EnvironmentDatabase; feed: string }, since: Date, until: Date, after: number): Promise<Entry[]> {
  return db.rows<Entry>(
    `SELECT entry, collection, recordId, \`by\`, \`after\` FROM ${feed}
     WHERE entry > ? AND at > ? AND at <= ? AND (action = 'delete' OR \`after\` IS NOT NULL) ORDER BY entry LIMIT ${SOME}`,
    [after, new Date(since.getTime() - BEFORE_MS), until],
  );
}

async function writeEntries(db: EnvironmentDatabase, table: string, all: readonly Entry[]): Promise<Set<string>> {
  // Of several changes of one record the last one counts.
  const entries = [...new Map(all.map((entry) => [entry.recordId, entry])).values()];
  const forms = await formsOf(db, table);
  const into = db.collection(table);
  return db.server.transaction(async (on) => {
    // Records come back in the order of their changes, not of what refers to what.
    await on.run('SET SESSION foreign_key_checks = 0');
    try {
      const gone = entries.filter(({ after }) => after === null).map(({ recordId }) => recordId);
      if (gone.length > 0) await on.run(`DELETE FROM ${into} WHERE id IN (?)`, [gone]);
      const images = entries.flatMap(({ recordId, by, after }): Image[] => (after === null ? [] : [{ id: recordId, by, image: after }]));
      return await writeImages(on, into, forms, images);
    } finally {
      await on.run('SET SESSION foreign_key_checks = 1');
    }
  });
}

/** History goes on: what is newer than the backup's. */
async function copyFeed(db: EnvironmentDatabase, from: { db: EnvironmentDatabase; feed: string }, until: Date): Promise<void> {
  const own = db.of(feedTable);
  const [top] = await db.rows<{ entry: number | null }>(`SELECT MAX(entry) AS entry FROM ${own}`);
  let after = Number(top?.entry ?? 0);
  const columns = ['entry', 'number', 'collection', 'recordId', 'action', 'version', 'at', 'by', 'before', 'after'];
  const named = columns.map((name) => `\`${name}\``).join(', ');
  for (;;) {
    const rows = await from.db.rows<Record<string, unknown>>(
      `SELECT ${named} FROM ${from.feed} WHERE entry > ? AND at <= ? ORDER BY entry LIMIT ${SOME}`,
      [after, until],
    );
    if (rows.length === 0) return;
    await db.run(`INSERT IGNORE INTO ${own} (${named}) VALUES ?`, [rows.map((row) => columns.map((name) => row[name]))]);
    after = Number(rows.at(-1)?.entry);
  }
}

/**
 * Gives the entries of the feed higher numbers than any that was given out: devices that have seen later ones than the
 * restored then load their data anew, and do not miss what comes next.
 * @param now the environment that it replaces, if it is there
 */
export async function liftFeed(db: EnvironmentDatabase, now: EnvironmentDatabase | null): Promise<void> {
  const highest = async (of: EnvironmentDatabase) => {
    const [row] = await of.rows<{ number: number }>(`SELECT number FROM ${of.of(feedCounterTable)}`);
    return Number(row?.number ?? 0);
  };
  const own = await highest(db);
  const lift = Math.max(own, now ? await highest(now) : own + BEYOND) + 1;
  await db.run(`UPDATE ${db.of(feedTable)} SET number = number + ? WHERE number > 0 ORDER BY number DESC`, [lift]);
  await db.run(`UPDATE ${db.of(feedCounterTable)} SET number = number + ?`, [lift]);
}

export const FEED = getTableName(feedTable);

/** Which of these users the environment has. */
export async function usersAmong({ db }: { db: EnvironmentDatabase }, ids: readonly string[]): Promise<Set<string>> {
  if (ids.length === 0) return new Set();
  const rows = await db.runRows<{ id: string }>(`SELECT id FROM ${db.collection('_users')} WHERE id IN (?)`, [ids]);
  return new Set(rows.map(({ id }) => id));
}
