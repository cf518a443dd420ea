/** The apps' releases, and who called: made-up calls by version and country, as the service counts them. */
import { type CallerKind, type Count, type Histogram, mergeInto } from '@orchard/core';
import type { ClientName } from './patterns.js';
import { ZONES } from './zones.js';

const DAY_MS = 86_400_000;
export const RELEASES: readonly [version: string, daysAgo: number][] = [
  ['2.4.0', 200],
  ['2.5.0', 70],
  ['2.6.0', 36],
  ['2.6.1', 12],
];
/** Days until the last phone has taken a release. */
const UPTAKE = 9;

/** The release of that many days ago. */
export const versionAfter = (daysAgo: number): string => RELEASES.findLast(([, since]) => daysAgo <= since)?.[0] ?? '2.4.0';

/** Phones that take a release late, by a share that stands for the phone. */
export const versionAt = (at: number, now: number, phone: number): string => versionAfter((now - at) / DAY_MS + phone * UPTAKE);

type Share = [name: string, share: number];
const versionShares = (at: number, now: number): Share[] => {
  const shares = new Map<string, number>();
  for (let phone = 0; phone < UPTAKE; phone++) {
    const version = versionAt(at, now, phone / UPTAKE);
    shares.set(version, (shares.get(version) ?? 0) + 1 / UPTAKE);
  }
  return [...shares];
};
const COUNTRIES: Share[] = ZONES.map(([, country, , share]) => [country, share]);

const TELLS_NONE: Share[] = [['', 1]];
/** Servers and web pages name neither version nor device. */
const isPhone = (client: string): boolean =>
  client === ('hiker-ios' satisfies ClientName) || client === ('hiker-android' satisfies ClientName);

/** The same calls by version and by country. */
export function callerCounts(calls: readonly Count[], now: number): Count[] {
  const sums = new Map<string, Count>();
  for (const call of calls) {
    addShares(sums, call, 'version', isPhone(call.client) ? versionShares(call.at, now) : TELLS_NONE);
    addShares(sums, call, 'country', isPhone(call.client) ? COUNTRIES : TELLS_NONE);
  }
  return [...sums.values()].filter(({ calls }) => calls > 0);
}

function addShares(sums: Map<string, Count>, call: Count, kind: CallerKind, shares: Share[]): void {
  let from = 0;
  for (const [route, share] of shares) {
    const histogram = between(call, from, (from += share));
    const calls = [...histogram.values()].reduce((sum, count) => sum + count, 0);
    addCount(sums, { ...call, ...NO_ROUTE, kind, route, calls, histogram, sumUs: Math.round((call.sumUs * calls) / call.calls) });
  }
}

export const NO_ROUTE = { method: '', target: '', problem: '' };

/** Adds to the count of the same thing. */
export function addCount(sums: Map<string, Count>, count: Count): void {
  const { at, kind, method, route, target, client, status, problem } = count;
  const name = `${at} ${kind} ${method} ${route} ${target} ${client} ${status} ${problem}`;
  const sum = sums.get(name);
  if (!sum) return void sums.set(name, { ...count, histogram: new Map(count.histogram) });
  sum.calls += count.calls;
  sum.sumUs += count.sumUs;
  mergeInto(sum.histogram, count.histogram);
}

/** The calls of a count from one share of them to another, of all durations alike; neighbouring shares add up to all calls. */
function between({ histogram, at }: Count, from: number, until: number): Histogram {
  const part: Histogram = new Map();
  for (const [bucket, count] of histogram) {
    // Where the first share begins differs by bucket: else few calls would all fall to the same share.
    const offset = ((bucket * 0.618 + at / 3_600_000) * 0.618) % 1;
    const calls = Math.floor(count * until + offset) - Math.floor(count * from + offset);
    if (calls > 0) part.set(bucket, calls);
  }
  return part;
}
