/** Events as rows, until they are packed. Raw SQL: bulk writes, and marks that tell a call's rows from those that were there. */
import { createHash } from 'node:crypto';
import type { PropertyValue } from '@orchard/core/insight';
import { LRUCache } from 'lru-cache';
import type { Statements } from '../../platform/database/connection.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { eventContextTable, eventIdTable, eventTable } from './tables.js';

export type NewEventRow = {
  at: number;
  receivedAt: number;
  person: number;
  name: string;
  visit: number;
  context: number;
  userId: string | null;
  deviceId: string | null;
  properties: string | null;
};
export type EventRow = Omit<NewEventRow, 'at' | 'receivedAt'> & { number: number; at: Date; receivedAt: Date };

const COLUMNS = ['at', 'receivedAt', 'person', 'name', 'visit', 'context', 'userId', 'deviceId', 'properties'] as const;

export async function insertEvents(db: EnvironmentDatabase, on: Statements, rows: readonly NewEventRow[]): Promise<void> {
  if (rows.length === 0) return;
  await on.run(`INSERT INTO ${db.of(eventTable)} (${COLUMNS.join(', ')}) VALUES ?`, [
    rows.map(({ at, receivedAt, ...row }) => [
      new Date(at),
      new Date(receivedAt),
      ...COLUMNS.slice(2).map((name) => row[name as keyof typeof row]),
    ]),
  ]);
}

export const hashOfId = (id: string): Buffer => createHash('sha1').update(id).digest().subarray(0, 16);

/**
 * Notes ids as brought.
 * @param call a mark of this call
 * @returns those that are new
 */
export async function claimIds(
  db: EnvironmentDatabase,
  on: Statements,
  hashes: readonly Buffer[],
  call: Buffer,
  now: number,
): Promise<ReadonlySet<string>> {
  const hex = (hash: Buffer) => hash.toString('hex');
  const { affectedRows } = await on.run(`INSERT IGNORE INTO ${db.of(eventIdTable)} (hash, \`call\`, at) VALUES ?`, [
    // In order, so that concurrent calls wait for each other instead of blocking each other.
    [...hashes].sort(Buffer.compare).map((hash) => [hash, call, new Date(now)]),
  ]);
  if (affectedRows === hashes.length) return new Set(hashes.map(hex));
  const own = await on.runRows<{ hash: Buffer }>(`SELECT hash FROM ${db.of(eventIdTable)} WHERE hash IN (?) AND \`call\` = ?`, [
    hashes,
    call,
  ]);
  return new Set(own.map(({ hash }) => hex(hash)));
}

export async function forgetIds(db: EnvironmentDatabase, before: Date): Promise<void> {
  // In pieces, so that no one waits long for their locks.
  for (;;) {
    const { affectedRows } = await db.run(`DELETE FROM ${db.of(eventIdTable)} WHERE at < ? LIMIT 10000`, [before]);
    if (affectedRows < 10_000) return;
  }
}

/** Numbers of combinations of built-in properties. */
export class Contexts {
  readonly #numbers = new LRUCache<string, number>({ max: 20_000 });
  readonly #known = new LRUCache<string, Record<string, string>>({ max: 20_000 });

  async numberOf(db: EnvironmentDatabase, properties: Record<string, string>): Promise<number> {
    const text = JSON.stringify(properties);
    const key = `${db.name} ${text}`;
    const known = this.#numbers.get(key);
    if (known !== undefined) return known;
    const hash = createHash('sha1').update(text).digest().subarray(0, 16);
    await db.run(`INSERT IGNORE INTO ${db.of(eventContextTable)} (hash, properties) VALUES (?, ?)`, [hash, text]);
    const [row] = await db.rows<{ number: number }>(`SELECT number FROM ${db.of(eventContextTable)} WHERE hash = ?`, [hash]);
    const number = row?.number as number;
    this.#numbers.set(key, number);
    return number;
  }

  /** The properties behind numbers. */
  async read(db: EnvironmentDatabase, numbers: ReadonlySet<number>): Promise<Map<number, Record<string, string>>> {
    const key = (number: number) => `${db.name} ${number}`;
    const missing = [...numbers].filter((number) => !this.#known.has(key(number)));
    if (missing.length > 0)
      for (const { number, properties } of await db.runRows<{ number: number; properties: Record<string, string> }>(
        `SELECT number, properties FROM ${db.of(eventContextTable)} WHERE number IN (?)`,
        [missing],
      ))
        this.#known.set(key(number), storedJson(properties) as Record<string, string>);
    return new Map([...numbers].map((number) => [number, this.#known.get(key(number)) ?? {}]));
  }
}

/** Rows of a stretch of time, in the order of their arrival. */
export function readEvents(db: EnvironmentDatabase, from: number, until: number): Promise<EventRow[]> {
  return db.runRows<EventRow>(`SELECT number, ${COLUMNS.join(', ')} FROM ${db.of(eventTable)} WHERE at >= ? AND at < ? ORDER BY number`, [
    new Date(from),
    new Date(until),
  ]);
}

/** The days that have unpacked rows, with how many and since when. */
export function unpackedDays(db: EnvironmentDatabase): Promise<{ day: string; rows: number; since: Date }[]> {
  return db.runRows(
    `SELECT DATE_FORMAT(at, '%Y-%m-%d') AS day, COUNT(*) AS \`rows\`, MIN(receivedAt) AS since FROM ${db.of(eventTable)} GROUP BY day ORDER BY day`,
  );
}

export async function deleteEvents(db: EnvironmentDatabase, on: Statements, numbers: readonly number[]): Promise<void> {
  for (let from = 0; from < numbers.length; from += 5_000)
    await on.run(`DELETE FROM ${db.of(eventTable)} WHERE number IN (?)`, [numbers.slice(from, from + 5_000)]);
}

export async function deleteEventsOf(db: EnvironmentDatabase, on: Statements, people: readonly number[]): Promise<void> {
  if (people.length > 0) await on.run(`DELETE FROM ${db.of(eventTable)} WHERE person IN (?)`, [people]);
}

/** The events that came last. */
export function latestEvents(
  db: EnvironmentDatabase,
  { device, user, limit }: { device?: string | undefined; user?: string | undefined; limit: number },
): Promise<EventRow[]> {
  const conditions = [...(device ? ['deviceId = ?'] : []), ...(user ? ['userId = ?'] : [])];
  const where = conditions.length > 0 ? `WHERE ${conditions.join(' AND ')}` : '';
  return db.rows<EventRow>(`SELECT number, ${COLUMNS.join(', ')} FROM ${db.of(eventTable)} ${where} ORDER BY number DESC LIMIT ${limit}`, [
    ...(device ? [device] : []),
    ...(user ? [user] : []),
  ]);
}

/** An event as it is counted: built-in and own properties together. */
export const propertiesOf = (
  { properties }: Pick<EventRow, 'properties'>,
  context: Record<string, string>,
): Record<string, PropertyValue> =>
  properties === null ? context : { ...context, ...(JSON.parse(properties) as Record<string, PropertyValue>) };
