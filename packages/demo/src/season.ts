/**
 * The weeks before the week of single calls: their counts by hour and day, how the environment fared, and what went wrong. Its
 * story: the hut search slows down at weekends and breaks its objective, and one evening a gateway refuses for forty minutes.
 */
import { addValue, type Count, type EnvironmentCondition } from '@orchard/core';
import {
  addChange,
  addHappening,
  addIncident,
  exchangeRow,
  insertCounts,
  insertRequests,
  NO_BODIES,
  rollUp,
  type PastDatabase,
} from '@orchard/service/past';
import { busy, CLIENT_SHARES, PATTERNS, type Pattern, targetOf } from './patterns.js';
import { callerCounts } from './releases.js';
import { seededRandom } from './scenario.js';

const MINUTE_MS = 60_000;
const HOUR_MS = 60 * MINUTE_MS;
const DAY_MS = 24 * HOUR_MS;
const DAYS = 90;
/** Hours are kept for the last weeks of them. */
const HOURLY_DAYS = 30;
/** The gateway that refused, when that began, and for how long. */
const REFUSED = { gateway: 'cairn', daysAgo: 2, hour: 19, minute: 10, minutes: 40 } as const;

export type Season = {
  place: { db: PastDatabase };
  now: number;
  /** When the week of single calls begins. */
  weekAt: number;
  callsADay: number;
  /** Stored form of the maintainer on call. */
  onCall: string;
  newId: () => string;
};

const isWeekend = (at: number): boolean => [0, 6].includes(new Date(at).getUTCDay());
const startOf = (at: number, ms: number): number => Math.floor(at / ms) * ms;
/** Guided groups came with the web client in the fifth week; the association grew slowly. */
const growth = (at: number, now: number): number => 1 - 0.35 * ((now - at) / (DAYS * DAY_MS));

export async function writeSeason(season: Season): Promise<void> {
  const { place, now, weekAt } = season;
  const random = seededRandom(91);
  const hourlyFrom = startOf(now - HOURLY_DAYS * DAY_MS, DAY_MS);
  const hours: Count[] = [];
  for (let at = hourlyFrom; at < startOf(weekAt, HOUR_MS); at += HOUR_MS)
    hours.push(...countsOf(season, at, busy(new Date(at).getUTCHours()) / 24, random));
  const days: Count[] = [];
  for (let at = startOf(now - DAYS * DAY_MS, DAY_MS); at < hourlyFrom; at += DAY_MS)
    days.push(...countsOf(season, at, DAY_WEIGHT / 24, random));
  await insertCounts(place.db, 'hour', null, [...hours, ...callerCounts(hours, now)]);
  const evening = refusedExchanges(now);
  await insertCounts(place.db, 'minute', 'past', evening);
  await insertRequests(place.db, evening.flatMap(exchangesOf));
  await rollUp(place.db);
  await insertCounts(place.db, 'day', null, [...days, ...callerCounts(days, now)]);
  await writeConditions(season, random);
}

/** The weight of a whole day, as the week of single calls has it. */
const DAY_WEIGHT = Array.from({ length: 24 }, (_, hour) => busy(hour)).reduce((sum, one) => sum + one, 0);

/** All calls of an hour or a day, by pattern, client and outcome. */
function countsOf({ now, callsADay }: Season, at: number, share: number, random: () => number): Count[] {
  const weekend = isWeekend(at);
  const calls = callsADay * share * growth(at, now) * (weekend ? 1.5 : 1) * (0.9 + random() * 0.2);
  const weights = PATTERNS.reduce((sum, { weight }) => sum + weight, 0);
  return PATTERNS.flatMap((pattern) =>
    CLIENT_SHARES(pattern).flatMap(([client, part]) =>
      outcomes(pattern, client, whole((calls * pattern.weight * part) / weights, random), at, weekend, random),
    ),
  );
}

/** A whole number with the expectation of the given one: what is rare must not be rounded away hour by hour. */
const whole = (expected: number, random: () => number): number => Math.floor(expected + random());

function outcomes(pattern: Pattern, client: string, calls: number, at: number, weekend: boolean, random: () => number): Count[] {
  const failed = pattern.failures.map(([share, status, problem]) => ({ status, problem, calls: whole(calls * share, random) }));
  const answered = calls - failed.reduce((sum, one) => sum + one.calls, 0);
  return [{ status: pattern.status, problem: '', calls: answered }, ...failed]
    .filter((one) => one.calls > 0)
    .map((one) => ({ ...one, ...durations(pattern, one.calls, weekend), ...whatOf(pattern), at, kind: 'call' as const, client }));
}

const whatOf = ({ method, route, path }: Pattern) => ({ method, route, target: targetOf(path) });

/** Shares of calls, and how many times the usual they took. */
const SPREAD: [share: number, factor: number][] = [
  [0.35, 0.7],
  [0.4, 1],
  [0.2, 1.4],
  [0.04, 3],
  [0.01, 7],
];

function durations({ ms, slowsAtWeekends }: Pattern, calls: number, weekend: boolean): Pick<Count, 'sumUs' | 'histogram'> {
  const usualUs = ms * 1000 * (weekend && slowsAtWeekends ? 9 : 1);
  const histogram = new Map<number, number>();
  let sumUs = 0;
  let left = calls;
  // From the slowest: what is left of a few calls is as fast as most.
  for (const [i, [share, factor]] of [...SPREAD.entries()].reverse()) {
    const count = i === 0 ? left : Math.min(left, Math.round(calls * share));
    if (count > 0) addValue(histogram, usualUs * factor, count);
    sumUs += usualUs * factor * count;
    left -= count;
  }
  return { sumUs, histogram };
}

const refusalAt = (now: number): number =>
  startOf(now, DAY_MS) - REFUSED.daysAgo * DAY_MS + REFUSED.hour * HOUR_MS + REFUSED.minute * MINUTE_MS;

/** What the gateway answered in that evening, by minute. */
function refusedExchanges(now: number): Count[] {
  const began = refusalAt(now);
  return Array.from({ length: 90 }, (_, minute): Count => {
    const isRefused = minute >= 30 && minute < 30 + REFUSED.minutes;
    return {
      at: began + (minute - 30) * MINUTE_MS,
      kind: 'gateway',
      method: '',
      route: REFUSED.gateway,
      target: '',
      client: '',
      status: isRefused ? 500 : 200,
      problem: '',
      calls: 6,
      sumUs: 6 * 90_000,
      histogram: new Map([[134, 6]]),
    };
  });
}

/** The single exchanges of a minute. */
function exchangesOf({ at, calls, status }: Count): unknown[][] {
  const isRefused = status >= 500;
  const exchange = {
    gateway: REFUSED.gateway,
    failed: isRefused,
    durationUs: 90_000,
    status: isRefused ? 503 : 200,
    problem: isRefused ? ('try-later' as const) : null,
    reason: isRefused ? 'The network answered 503 (maintenance of the push relays). It is tried again.' : null,
    trace: null,
    deviceId: null,
    details: () => ({
      method: 'POST',
      address: 'https://push.cairn.example/send',
      headers: HEADERS,
      bodies: { request: null, response: null },
    }),
  };
  const each = MINUTE_MS / calls;
  return Array.from({ length: calls }, (_, n) => exchangeRow(exchange, at + n * each, 1, NO_BODIES));
}
const HEADERS = { request: { 'content-type': 'application/json' }, response: { 'content-type': 'application/json' } };

type Changed = { at: number; condition: EnvironmentCondition; objective: string | null; value: number | null; text: string | null };
const plain = (at: number, condition: EnvironmentCondition): Changed => ({ at, condition, objective: null, value: null, text: null });

/** Awake from morning to night; stressed at weekends while the hut search is slow. */
async function writeConditions(season: Season, random: () => number): Promise<void> {
  const { place, now } = season;
  const changes: Changed[] = [];
  for (let day = startOf(now - DAYS * DAY_MS, DAY_MS); day <= now; day += DAY_MS) {
    const minute = () => Math.floor(random() * 40) * MINUTE_MS;
    changes.push(plain(day + 5 * HOUR_MS + minute(), 'thriving'));
    if (isWeekend(day)) {
      const slow = { objective: 'hut-search', value: 142, text: SLOW_WORDS };
      const [from, until] = [day + 10 * HOUR_MS + minute(), day + 18 * HOUR_MS + minute()];
      changes.push({ at: from, condition: 'stressed', ...slow }, plain(until, 'thriving'));
      if (until < now) await writeIncident(season, { title: SLOW_WORDS, condition: 'stressed', from, until, happenings: [] });
    }
    changes.push(plain(day + 23 * HOUR_MS + minute(), 'dormant'));
  }
  changes.push(...(await writeRefusal(season)));
  for (const change of changes.filter(({ at }) => at < now).sort((a, b) => a.at - b.at)) await addChange(place, change);
}

const SLOW_WORDS = 'p95 latency, GET /app/v1/data/huts: 142 ms (stressed beyond 80 ms)';
const REFUSED_WORDS = 'share accepted by the network, all gateways: 41 % (failing below 50 %)';

async function writeRefusal(season: Season): Promise<Changed[]> {
  const began = refusalAt(season.now);
  const [from, until] = [began + 3 * MINUTE_MS, began + (REFUSED.minutes + 4) * MINUTE_MS];
  await writeIncident(season, {
    title: REFUSED_WORDS,
    condition: 'failing',
    from,
    until,
    happenings: [
      [0.2, 'alerted', 'Ilse Brook', false],
      [4, 'acknowledged', 'by SMS', true],
      [9, 'note', 'Cairn answers 503 to every message; they say they are mending it. What waits goes out when they are back.', true],
    ],
  });
  return [{ at: from, condition: 'failing', objective: 'deliveries', value: 0.41, text: REFUSED_WORDS }, plain(until, 'thriving')];
}

type Told = [minutes: number, kind: 'alerted' | 'acknowledged' | 'note', text: string, byMember: boolean];
type Past = { title: string; condition: EnvironmentCondition; from: number; until: number; happenings: Told[] };

async function writeIncident({ place, newId, onCall }: Season, { title, condition, from, until, happenings }: Past): Promise<void> {
  const id = newId();
  const acknowledged = happenings.find(([, kind]) => kind === 'acknowledged');
  await addIncident(place, {
    id,
    subject: 'condition',
    openSubject: null,
    title,
    condition,
    openedAt: new Date(from),
    closedAt: new Date(until),
    acknowledgedAt: acknowledged ? new Date(from + acknowledged[0] * MINUTE_MS) : null,
    acknowledgedBy: acknowledged ? onCall : null,
    progress: { rules: {}, told: [] },
  });
  const service = 'service';
  await addHappening(place, id, { at: new Date(from), kind: 'opened', text: `${condition}: ${title}`, by: service });
  for (const [minutes, kind, text, byMember] of happenings)
    await addHappening(place, id, { at: new Date(from + minutes * MINUTE_MS), kind, text, by: byMember ? onCall : service });
  await addHappening(place, id, { at: new Date(until), kind: 'closed', text: 'All clear', by: service });
}
