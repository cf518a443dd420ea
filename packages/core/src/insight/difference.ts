/**
 * What those who stopped have more often than those who went on. For each value, a two-proportion z-test of the share that has it; of the
 * many comparisons, those that hold at a false discovery rate (Benjamini and Hochberg 1995) are kept, the largest difference first.
 */

export type Counted = { property: string; value: string | null /** People of each group who have it. */; stopped: number; went: number };
export type Difference = Counted & {
  /** Of those who stopped, and of those who went on. */
  shareOfStopped: number;
  shareOfWent: number;
  /** Two-sided, of the z-test alone. */
  p: number;
};

/** Values with fewer people in both groups together say too little. */
const LEAST = 10;

export function differences(counted: readonly Counted[], stopped: number, went: number, falseDiscovery = 0.05): Difference[] {
  if (stopped === 0 || went === 0) return [];
  const tested = counted
    .filter((one) => one.stopped + one.went >= LEAST)
    .map((one) => ({
      ...one,
      shareOfStopped: one.stopped / stopped,
      shareOfWent: one.went / went,
      p: twoProportions(one.stopped, stopped, one.went, went),
    }))
    .sort((a, b) => a.p - b.p);
  const last = tested.findLastIndex(({ p }, i) => p <= ((i + 1) / tested.length) * falseDiscovery);
  // What those who went on have more often mirrors this.
  return tested
    .slice(0, last + 1)
    .filter((one) => lead(one) > 0)
    .sort((a, b) => lead(b) - lead(a));
}

const lead = ({ shareOfStopped, shareOfWent }: Difference): number => shareOfStopped - shareOfWent;

/** Two-sided p of the hypothesis that two shares are the same, with pooled variance. */
export function twoProportions(a: number, ofA: number, b: number, ofB: number): number {
  const pooled = (a + b) / (ofA + ofB);
  const deviation = Math.sqrt(pooled * (1 - pooled) * (1 / ofA + 1 / ofB));
  if (deviation === 0) return 1;
  return 2 * upperTail(Math.abs(a / ofA - b / ofB) / deviation);
}

/** P(Z > z) of the standard normal distribution; Abramowitz and Stegun 26.2.17, off by less than 7.5e-8. */
export function upperTail(z: number): number {
  const t = 1 / (1 + 0.2316419 * z);
  const density = Math.exp((-z * z) / 2) / Math.sqrt(2 * Math.PI);
  return density * t * (0.31938153 + t * (-0.356563782 + t * (1.781477937 + t * (-1.821255978 + t * 1.330274429))));
}
