/**
 * Hours from minutes, and days from hours. A step is summed anew whenever one below it was written since, so that late counts
 * are never missed, and a run that died half-way changes nothing.
 */
import { addTally, type Count, emptyTally, STEPS, type Step, type Tally } from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { writtenSince, readCounts, removeCounts } from './countStore.js';
import { COUNTED, insertCounts } from './recordStore.js';

/** How long counts are kept by step. */
const KEPT_MS = { cell: STEPS.day, minute: 35 * STEPS.day, hour: 100 * STEPS.day, day: 400 * STEPS.day } as const;

/** Sums what was written since the last run. */
export async function rollUp(db: EnvironmentDatabase): Promise<void> {
  await sumInto(db, 'minute', 'hour');
  await sumInto(db, 'hour', 'day');
}

/** Removes counts after their time. */
export async function forgetCounts(db: EnvironmentDatabase, now: number): Promise<void> {
  for (const step of Object.keys(KEPT_MS) as Step[]) await removeCounts(db, step, now - KEPT_MS[step]);
}

async function sumInto(db: EnvironmentDatabase, from: Step, into: 'hour' | 'day'): Promise<void> {
  for (const at of await writtenSince(db, from, into)) {
    const counts = await readCounts(db, from, at, at + STEPS[into]);
    await insertCounts(db, into, null, sumCounts(counts, at));
  }
}

/** Counts of the same thing as one, at one time. */
export function sumCounts(counts: readonly Count[], at: number): Count[] {
  const sums = new Map<string, { count: Count; sum: Tally }>();
  for (const count of counts) {
    const name = COUNTED.map((one) => count[one]).join(' ');
    let sum = sums.get(name);
    if (!sum) sums.set(name, (sum = { count, sum: emptyTally() }));
    addTally(sum.sum, { ...count, failed: 0, refused: 0 });
  }
  return [...sums.values()].map(({ count, sum: { calls, sumUs, histogram } }) => ({ ...count, at, calls, sumUs, histogram }));
}
