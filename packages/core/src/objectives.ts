/**
 * Objectives: a measure over a window with a limit for `stressed` and one for `failing`, and the condition of an environment
 * that follows from them. Shares are from 0 to 1, durations milliseconds.
 */
import { type Histogram, bucketStart, quantiles } from './histogram.js';
import { CONDITIONS, type EnvironmentCondition } from './conditions.js';
import type { Tally } from './tallies.js';

export type Measure =
  /** How long calls take. */
  | { of: 'latency'; statistic: 'mean' | 'p50' | 'p95' | 'p99' }
  /** The share of calls answered within a time. */
  | { of: 'within'; ms: number }
  /** Calls that failed: answered with a 5xx, or not at all. */
  | { of: 'failed'; as: 'share' | 'count' }
  /** The share of calls that were refused, with a 4xx. */
  | { of: 'refused' }
  /** The share of exchanges with gateways that the network accepted. */
  | { of: 'delivered' }
  /** The age of the oldest job that is due. */
  | { of: 'backlog' };

export type Limits = {
  measure: Measure;
  stressed: number;
  failing: number /** Below this many calls nothing is said. */;
  leastCalls: number;
};

const MINUTE_MS = 60_000;
export const WINDOW_MS = { least: MINUTE_MS, most: 30 * 24 * 60 * MINUTE_MS } as const;

/** Whether a larger value is a worse one. */
export const isHigherWorse = ({ of }: Measure): boolean => of !== 'within' && of !== 'delivered';

/** Whether the values of a measure are shares. */
export const isShare = (measure: Measure): boolean =>
  measure.of === 'within' || measure.of === 'refused' || measure.of === 'delivered' || (measure.of === 'failed' && measure.as === 'share');

/**
 * The value of a measure.
 * @returns null without calls, and for the age of a backlog, which is not counted
 */
export function measured(measure: Measure, tally: Tally): number | null {
  const { calls, failed, refused, sumUs, histogram } = tally;
  if (calls === 0) return null;
  switch (measure.of) {
    case 'latency':
      return measure.statistic === 'mean' ? sumUs / calls / 1000 : quantileMs(histogram, measure.statistic);
    case 'within':
      return shareWithin(histogram, measure.ms * 1000);
    case 'failed':
      return measure.as === 'count' ? failed : failed / calls;
    case 'refused':
      return refused / calls;
    case 'delivered':
      return (calls - failed) / calls;
    case 'backlog':
      return null;
  }
}

const SHARES = { p50: 0.5, p95: 0.95, p99: 0.99 } as const;
function quantileMs(histogram: Histogram, statistic: keyof typeof SHARES): number | null {
  const [us] = quantiles(histogram, [SHARES[statistic]]);
  return us === null || us === undefined ? null : us / 1000;
}

/** The share of values up to a limit; inside a bucket they are taken as spread evenly. */
function shareWithin(histogram: Histogram, limitUs: number): number {
  let within = 0;
  let all = 0;
  for (const [bucket, count] of histogram) {
    const [start, end] = [bucketStart(bucket), bucketStart(bucket + 1)];
    all += count;
    within += count * Math.max(0, Math.min(1, (limitUs - start) / (end - start)));
  }
  return all === 0 ? 0 : within / all;
}

/** How well a value is by its limits; a limit itself is still kept. */
export function levelOf({ measure, stressed, failing }: Limits, value: number): Exclude<EnvironmentCondition, 'dormant'> {
  const isBeyond = (limit: number) => (isHigherWorse(measure) ? value > limit : value < limit);
  if (isBeyond(failing)) return 'failing';
  return isBeyond(stressed) ? 'stressed' : 'thriving';
}

/** The condition by one objective; `dormant` where there was too little traffic to say. */
export function conditionBy(limits: Limits, tally: Tally): EnvironmentCondition {
  const value = measured(limits.measure, tally);
  return value === null || tally.calls < limits.leastCalls ? 'dormant' : levelOf(limits, value);
}

/** The worst of several; `dormant` alone where none says anything. */
export const worstOf = (conditions: readonly EnvironmentCondition[]): EnvironmentCondition =>
  conditions.reduce<EnvironmentCondition>((worst, one) => (CONDITIONS.indexOf(one) > CONDITIONS.indexOf(worst) ? one : worst), 'dormant');

/**
 * How near a value is to the next limit it has not passed, for sorting: 0 is far away, 1 is at the limit; past `failing` it
 * grows beyond 1.
 */
export function nearness(limits: Limits, value: number): number {
  const level = levelOf(limits, value);
  const limit = level === 'thriving' ? limits.stressed : limits.failing;
  // Of a share that must stay high, what is missing to all of it counts: 99.5 % is half the way to a limit of 99 %.
  const [from, to] = isHigherWorse(limits.measure) ? [value, limit] : [1 - value, 1 - limit];
  return to <= 0 ? (from > 0 ? Number.POSITIVE_INFINITY : 0) : from / to;
}

/** Where the notches of a limit are on a bar from 0 to 1. */
export const NOTCHES = { stressed: 0.6, failing: 0.9 } as const;

/** How far a bar is filled by a value: to a notch where it is at that limit, to the end at twice the distance past `failing`. */
export function fillOf({ measure, stressed, failing }: Pick<Limits, 'measure' | 'stressed' | 'failing'>, value: number): number {
  const [at, first, second] = isHigherWorse(measure) ? [value, stressed, failing] : [1 - value, 1 - stressed, 1 - failing];
  if (at <= first) return first > 0 ? (at / first) * NOTCHES.stressed : NOTCHES.stressed;
  const beyond = (at - first) / (second - first);
  if (beyond <= 1) return NOTCHES.stressed + beyond * (NOTCHES.failing - NOTCHES.stressed);
  return Math.min(1, NOTCHES.failing + ((beyond - 1) * (1 - NOTCHES.failing)) / 2);
}

export type LimitFault = { path: 'windowMs' | 'stressed' | 'failing' | 'measure.ms' | 'leastCalls'; problem: string; expected: string };

/** What is wrong with the numbers of an objective. */
export function limitFaults({ windowMs, ...limits }: Limits & { windowMs: number }): LimitFault[] {
  const { measure, stressed, failing, leastCalls } = limits;
  const faults: LimitFault[] = [];
  const add = (path: LimitFault['path'], problem: string, expected: string) => faults.push({ path, problem, expected });
  if (!(windowMs >= WINDOW_MS.least && windowMs <= WINDOW_MS.most))
    add('windowMs', `A window of ${windowMs} ms is out of range.`, '60,000 (a minute) to 2,592,000,000 (30 days)');
  const most = isShare(measure) ? 1 : Number.POSITIVE_INFINITY;
  for (const [path, limit] of [['stressed', stressed] as const, ['failing', failing] as const])
    if (!(limit >= 0 && limit <= most))
      add(path, `A limit of ${limit} is out of range.`, isShare(measure) ? 'a share from 0 to 1' : '0 or more');
  const inOrder = isHigherWorse(measure) ? stressed < failing : stressed > failing;
  if (!inOrder)
    add(
      'failing',
      `The limits are in the wrong order: \`stressed\` is ${stressed}, \`failing\` is ${failing}.`,
      isHigherWorse(measure) ? 'more than `stressed`' : 'less than `stressed`',
    );
  if (measure.of === 'within' && !(measure.ms > 0)) add('measure.ms', `${measure.ms} ms is no time.`, 'more than 0');
  if (!(Number.isInteger(leastCalls) && leastCalls >= 0))
    add('leastCalls', `${leastCalls} is no number of calls.`, 'a whole number, 0 or more');
  return faults;
}

/** A condition as it is shown, and the one that is about to follow. */
export type Settling = { condition: EnvironmentCondition; since: number; next: EnvironmentCondition; nextSince: number };

/** Between two evaluations. */
export const EVALUATE_MS = 10_000;

/** How long a worse or a better condition must hold before it is shown: seen twice in a row, and seven times. */
export const dampingOf = (evaluateMs: number) => ({ worse: evaluateMs, better: 6 * evaluateMs });
export const DAMPING_MS = dampingOf(EVALUATE_MS);

export const settled = (condition: EnvironmentCondition, at: number): Settling => ({
  condition,
  since: at,
  next: condition,
  nextSince: at,
});

/**
 * The shown condition after another evaluation. What is seen must hold for a while first, for a shorter one if it is worse,
 * so that the condition does not flicker. The shown time is when it began to hold.
 */
export function settle(before: Settling, seen: EnvironmentCondition, at: number, damping = DAMPING_MS): Settling {
  if (seen === before.condition) return { ...before, next: seen, nextSince: at };
  const nextSince = seen === before.next ? before.nextSince : at;
  const isWorse = CONDITIONS.indexOf(seen) > CONDITIONS.indexOf(before.condition);
  const holds = at - nextSince >= (isWorse ? damping.worse : damping.better);
  return holds ? { condition: seen, since: nextSince, next: seen, nextSince: at } : { ...before, next: seen, nextSince };
}

/** What an objective allows to go wrong in its window, and how much of that is spent. */
export type Budget = {
  /** Share of all that may be bad. */ allowed: number;
  bad: number;
  total: number /** 1 is all of it. */;
  spent: number;
};

/**
 * The error budget of an objective whose measure is a share.
 * @param limit the one that is promised: `stressed` or `failing`
 * @returns null for measures that are no shares, and without calls
 */
export function budgetOf(measure: Measure, limit: number, tally: Tally): Budget | null {
  const value = isShare(measure) ? measured(measure, tally) : null;
  if (value === null) return null;
  const [allowed, badShare] = isHigherWorse(measure) ? [limit, value] : [1 - limit, 1 - value];
  const spent = allowed > 0 ? badShare / allowed : badShare > 0 ? Number.POSITIVE_INFINITY : 0;
  return { allowed, bad: badShare * tally.calls, total: tally.calls, spent };
}

/** How many times faster than allowed a budget is spent: 1 uses it up exactly at the end of the window. */
export const burnRate = (measure: Measure, limit: number, recent: Tally): number | null => budgetOf(measure, limit, recent)?.spent ?? null;
