/** Writes events of the past, packed, for the demo's ninety days. Raw SQL: bulk writes of rows that are made elsewhere. */
import { deflateSync } from 'node:zlib';
import { BUILT_IN, DAY_MS, type InsightEvent, packDay, typeOfValue } from '@orchard/core/insight';
import { grouped } from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { dayName, writeDay } from './segmentStore.js';
import { personDeviceTable, personTable, seenPropertyTable } from './tables.js';

export type PastPerson = { userId: string | null; deviceId: string };
/** @param person index of {@link PastPerson} */
export type PastEvent = Omit<InsightEvent, 'person'> & { person: number };

const AT_ONCE = 2_000;
const LEVEL = 3;

export async function writePastEvents(
  db: EnvironmentDatabase,
  people: readonly PastPerson[],
  events: readonly PastEvent[],
  now: number,
): Promise<void> {
  const numbers = await addPeople(db, people, events, now);
  const numbered = events.map((event) => ({ ...event, person: numbers[event.person] as number }));
  for (const [day, own] of grouped(numbered, ({ at }) => Math.floor(at / DAY_MS) * DAY_MS)) {
    const { rows, columns } = packDay(day, own);
    const deflated = new Map([...columns].map(([name, bytes]) => [name, deflateSync(bytes, { level: LEVEL })]));
    await db.transaction((on) => writeDay(db, on, { day: dayName(day), rows, columns: deflated }, null));
  }
  await noteProperties(db, events);
}

async function addPeople(
  db: EnvironmentDatabase,
  people: readonly PastPerson[],
  events: readonly PastEvent[],
  now: number,
): Promise<number[]> {
  const first = new Map<number, number>();
  for (const { person, at } of events) first.set(person, Math.min(first.get(person) ?? at, at));
  const [{ highest } = { highest: 0 }] = await db.rows<{ highest: number }>(
    `SELECT COALESCE(MAX(number), 0) AS highest FROM ${db.of(personTable)}`,
  );
  const numbers = people.map((_, i) => Number(highest) + 1 + i);
  for (let from = 0; from < people.length; from += AT_ONCE) {
    const part = people.slice(from, from + AT_ONCE);
    await db.run(`INSERT INTO ${db.of(personTable)} (number, userId, firstAt, changedAt) VALUES ?`, [
      part.map(({ userId }, i) => [numbers[from + i], userId, new Date(first.get(from + i) ?? now), new Date(now)]),
    ]);
    await db.run(`INSERT INTO ${db.of(personDeviceTable)} (person, deviceId) VALUES ?`, [
      part.map(({ deviceId }, i) => [numbers[from + i], deviceId]),
    ]);
  }
  return numbers;
}

async function noteProperties(db: EnvironmentDatabase, events: readonly PastEvent[]): Promise<void> {
  const builtIn = new Set<string>(BUILT_IN);
  const seen = new Map<string, [string, string, string, number, number]>();
  const note = (event: string, property: string, type: string, at: number) => {
    const key = `${event} ${property} ${type}`;
    const row = seen.get(key) ?? [event, property, type, at, at];
    seen.set(key, [event, property, type, Math.min(row[3], at), Math.max(row[4], at)]);
  };
  for (const { name, at, properties } of events) {
    note(name, '', '', at);
    for (const [property, value] of Object.entries(properties)) if (!builtIn.has(property)) note(name, property, typeOfValue(value), at);
  }
  await db.run(`INSERT INTO ${db.of(seenPropertyTable)} (event, property, type, firstAt, lastAt) VALUES ?`, [
    [...seen.values()].map(([event, property, type, from, to]) => [event, property, type, new Date(from), new Date(to)]),
  ]);
}
