/** Whether there are far more or fewer calls than usual at this hour. */

/** Fewer than this many calls say nothing. */
const LEAST = 50;
/** So far from usual that it is worth a message. */
const [MANY, FEW] = [3, 1 / 3];

/**
 * Compares the calls of an hour with those of the same hour in the weeks before.
 * @param before one number a week, without weeks of which nothing is known
 * @returns null where it is usual, or too little is known
 */
export function unusualTraffic(calls: number, before: readonly number[]): 'many' | 'few' | null {
  if (before.length < 2) return null;
  const usual = before.reduce((sum, one) => sum + one, 0) / before.length;
  if (Math.max(calls, usual) < LEAST) return null;
  // A week that was itself out of the ordinary widens what is usual.
  if (calls > usual * MANY && calls > Math.max(...before)) return 'many';
  return calls < usual * FEW && calls < Math.min(...before) ? 'few' : null;
}
