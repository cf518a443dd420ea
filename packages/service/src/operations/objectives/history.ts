/** The counts that windows of objectives need, from the longest steps that hold them. */
import { COUNTED_KINDS, type Count, STEPS, type Step } from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { readCounts } from '../telemetry/countStore.js';

/** A step is summed some minutes after its end; until then the shorter ones below it count. */
const SETTLED_MS = STEPS.hour;

/**
 * All counts from a time on, up to the minute that is not over at `until`: days as long as they are whole and settled, then
 * hours, then minutes. They come in no order.
 * @param longest the longest step that may be used
 */
export async function readPast(db: EnvironmentDatabase, from: number, until: number, longest: Step): Promise<Count[]> {
  const parts: Promise<Count[]>[] = [];
  let at = Math.floor(from / STEPS[longest]) * STEPS[longest];
  for (const step of ['day', 'hour', 'minute'] as const) {
    if (STEPS[step] > STEPS[longest]) continue;
    const bound = step === 'minute' ? until : until - SETTLED_MS;
    const end = Math.floor(bound / STEPS[step]) * STEPS[step];
    if (end <= at) continue;
    parts.push(readCounts(db, step, at, end, { kind: COUNTED_KINDS }));
    at = end;
  }
  return (await Promise.all(parts)).flat();
}
