/**
 * Hours from minutes, and days from hours. A step is summed anew whenever one below it was written since, so that late counts
 * are never missed, and a run that died half-way changes nothing.
 */
import type { KeptDays } from '@orchard/contract';
import { addTally, type Count, emptyTally, STEPS, type Step, type Tally } from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { writtenSince, readCounts, removeCounts } from './countStore.js';
import { COUNTED, insertCounts } from './recordStore.js';

/** Sums what was written since the last run. */
export async function rollUp(db: EnvironmentDatabase): Promise<void> {
  await sumInto(db, 'minute', 'hour');
  await sumInto(db, 'hour', 'day');
}

/** Removes counts after their time. @param days how many days of each step are kept */
export async function forgetCounts(db: EnvironmentDatabase, now: number, days: KeptDays): Promise<void> {
  const kept: Record<Step, number> = { cell: 1, minute: days.minutes, hour: days.hours, day: days.days };
  for (const step of Object.keys(kept) as Step[]) await removeCounts(db, step, now - kept[step] * STEPS.day);
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
