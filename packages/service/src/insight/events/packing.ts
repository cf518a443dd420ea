/** Packs the rows of a day into its columns. Nothing is lost or doubled when it dies: columns and rows change in one transaction. */
import { promisify } from 'node:util';
import { deflate, inflate } from 'node:zlib';
import { eventsOf, holdsAny, type InsightEvent, openDay, packDay } from '@orchard/core/insight';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { type Contexts, deleteEvents, type EventRow, propertiesOf, readEvents, unpackedDays } from './eventStore.js';
import type { People } from './peopleStore.js';
import { dayName, packedDays, readColumns, writeDay } from './segmentStore.js';

const DAY_MS = 86_400_000;
/** A day is packed when so many rows wait, or the oldest has waited so long. */
const ENOUGH = 5_000;
const LONG_MS = 10 * 60_000;
const LEVEL = 3;

const pack = promisify<Buffer | Uint8Array, { level: number }, Buffer>(deflate);
const unpack = promisify<Buffer, Buffer>(inflate);

export type PackGround = { people: People; contexts: Contexts };

/** Rows as events, with their properties together. */
export async function eventsOfRows(db: EnvironmentDatabase, contexts: Contexts, rows: readonly EventRow[]): Promise<InsightEvent[]> {
  const known = await contexts.read(db, new Set(rows.map(({ context }) => context)));
  return rows.map((row) => ({
    person: row.person,
    at: row.at.getTime(),
    name: row.name,
    visit: row.visit,
    properties: propertiesOf(row, known.get(row.context) ?? {}),
  }));
}

/** Packs what is worth it; by one instance at a time. */
export async function packDue(db: EnvironmentDatabase, ground: PackGround, now: number): Promise<void> {
  for (const { day, rows, since } of await unpackedDays(db))
    if (rows >= ENOUGH || now - since.getTime() > LONG_MS) await packDayOf(db, ground, Date.parse(day));
}

/**
 * @param day its start
 * @returns whether it was packed; another instance may have been faster
 */
export async function packDayOf(db: EnvironmentDatabase, { people, contexts }: PackGround, day: number): Promise<boolean> {
  const [packed] = await packedDays(db, day, day + DAY_MS);
  const { alias } = await people.known(db);
  const rows = await readEvents(db, day, day + DAY_MS);
  const before = packed ? eventsOf(openDay(day, packed.rows, await openColumns(db, packed.day), alias)) : [];
  const segment = packDay(day, [...before, ...(await eventsOfRows(db, contexts, rows))]);
  const columns = new Map<string, Buffer>();
  for (const [name, bytes] of segment.columns) columns.set(name, await pack(bytes, { level: LEVEL }));
  return db.transaction(async (on) => {
    const isOurs = await writeDay(db, on, { day: dayName(day), rows: segment.rows, columns }, packed?.version ?? null);
    // Exactly the rows that were read: one that came meanwhile stays.
    if (isOurs)
      await deleteEvents(
        db,
        on,
        rows.map(({ number }) => number),
      );
    return isOurs;
  });
}

async function openColumns(db: EnvironmentDatabase, day: string): Promise<Map<string, Uint8Array>> {
  const columns = new Map<string, Uint8Array>();
  for (const [name, bytes] of await readColumns(db, day)) columns.set(name, await unpack(bytes));
  return columns;
}

/** Removes the events of erased people from the packed days. */
export async function eraseFromDays(db: EnvironmentDatabase, ground: PackGround, now: number): Promise<void> {
  const erased = await ground.people.toBeErased(db);
  if (erased.length === 0) return;
  const from = Math.min(...erased.map(({ firstAt }) => firstAt.getTime()));
  const numbers = new Set(erased.map(({ number }) => number));
  for (const row of await packedDays(db, from, now + DAY_MS)) {
    const column = (await readColumns(db, row.day, ['person'])).get('person');
    if (column && holdsAny(await unpack(column), row.rows, numbers)) await packDayOf(db, ground, Date.parse(row.day));
  }
  await ground.people.markGone(
    db,
    erased.map(({ number }) => number),
  );
}
