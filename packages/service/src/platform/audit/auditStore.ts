/** Audit entries as rows. Raw SQL: entries join transactions of records, which are raw, and lists bring their own conditions. */
import type { AuditText } from '@orchard/core';
import type { Statements } from '../database/connection.js';
import type { EnvironmentDatabase } from '../database/environmentDatabase.js';
import type { Head, StoredEntry } from './chain.js';
import { auditHeadTable, auditTable } from './tables.js';

const COLUMNS = [
  'number',
  'id',
  'at',
  'actor',
  'address',
  'request',
  'app',
  'environment',
  'action',
  'kind',
  'subject',
  'outcome',
  'before',
  'after',
  'mac',
] as const;
const NAMES = COLUMNS.map((name) => `\`${name}\``).join(', ');

type Row = Omit<StoredEntry, 'at' | 'number'> & { at: Date; number: number | string };
export const readEntry = (row: Row): StoredEntry => ({ ...row, number: Number(row.number), at: row.at.toISOString() });
export type { Row as AuditRow };

/** Entries with the id of their database, up to and without WHERE. */
export const selectEntries = (db: EnvironmentDatabase, id: string): string =>
  `SELECT ${NAMES}, '${id}' AS \`database\` FROM ${db.of(auditTable)}`;

/** Locks the end of a chain until the transaction ends: entries are added one after another. */
export async function lockHead(on: Statements, db: EnvironmentDatabase): Promise<Head> {
  const read = async (): Promise<Head | undefined> =>
    (await on.rows<Head>(`SELECT number, mac, seal FROM ${db.of(auditHeadTable)} WHERE id = 1 FOR UPDATE`))[0];
  let head = await read();
  if (!head) {
    await on.change(`INSERT IGNORE INTO ${db.of(auditHeadTable)} (id, number, mac, seal) VALUES (1, 0, '', '')`);
    head = (await read()) as Head;
  }
  return { ...head, number: Number(head.number) };
}

export async function addEntry(on: Statements, db: EnvironmentDatabase, entry: AuditText & { mac: string }, seal: string): Promise<void> {
  const values = COLUMNS.map((name) => (name === 'at' ? new Date(entry.at) : entry[name]));
  await on.change(`INSERT INTO ${db.of(auditTable)} (${NAMES}) VALUES (${COLUMNS.map(() => '?').join(', ')})`, values);
  await on.change(`UPDATE ${db.of(auditHeadTable)} SET number = ?, mac = ?, seal = ? WHERE id = 1`, [entry.number, entry.mac, seal]);
}

export async function readHead(db: EnvironmentDatabase, on: Pick<Statements, 'rows'> = db): Promise<Head | null> {
  const [head] = await on.rows<Head>(`SELECT number, mac, seal FROM ${db.of(auditHeadTable)} WHERE id = 1`);
  return head ? { ...head, number: Number(head.number) } : null;
}

/** The entries of a chain in order, a batch at a time. */
export async function* entriesOf(db: EnvironmentDatabase, on: Pick<Statements, 'rows'>, batch = 2_000): AsyncGenerator<StoredEntry> {
  for (let from = 0; ; ) {
    const rows = await on.rows<Row>(`SELECT ${NAMES} FROM ${db.of(auditTable)} WHERE number > ? ORDER BY number LIMIT ${batch}`, [from]);
    for (const row of rows) yield readEntry(row);
    if (rows.length < batch) return;
    from = Number(rows.at(-1)?.number);
  }
}

/** Entries of a stretch of time, oldest first, without what reading alone leaves. */
export async function entriesBetween(db: EnvironmentDatabase, from: Date, until: Date, most = 100): Promise<StoredEntry[]> {
  const rows = await db.rows<Row>(
    `SELECT ${NAMES} FROM ${db.of(auditTable)} WHERE at >= ? AND at <= ? ORDER BY number DESC LIMIT ${most}`,
    [from, until],
  );
  return rows.map(readEntry).reverse();
}
