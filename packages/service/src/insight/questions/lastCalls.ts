/** What went wrong just before people stopped: the last refused, failed or slow call of each, as far as calls are kept. */
import type { WhyReply } from '@orchard/contract';
import { grouped } from '@orchard/core';
import { earliestCall, type TroubledCall, troubledCalls } from '../../operations/telemetry/troubleStore.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';

const MOST_PEOPLE = 1_000;
const MOST_ITEMS = 10;
const BEFORE_MS = 30 * 60_000;
/** A call belongs to what was just reported: apps report in batches. */
const AFTER_MS = 5 * 60_000;
const DAY_MS = 86_400_000;
/** Calls are read day by day, latest first, for so long. */
const PATIENCE_MS = 2_000;

type Stop = { person: number; userId: string | null; deviceIds: ReadonlySet<string>; at: number };

/** @param last when each person was at the step last */
export async function lastCallsOf(
  { people, now }: Parts,
  { db }: Environment,
  last: { people: Uint32Array; at: Float64Array },
): Promise<WhyReply['calls']> {
  const at = new Map(Array.from(last.people.slice(0, MOST_PEOPLE), (person, i) => [person, last.at[i] as number]));
  const shown = await people.show(db, [...at.keys()]);
  const stops = shown.map(
    ({ person, userId, deviceIds }): Stop => ({ person, userId, deviceIds: new Set(deviceIds), at: at.get(person) ?? 0 }),
  );
  const earliest = (await earliestCall(db))?.getTime() ?? Number.POSITIVE_INFINITY;
  const began = now();
  const found = new Map<number, TroubledCall>();
  let since: number | null = null;
  for (const [day, own] of [...grouped(stops, (stop) => Math.floor(stop.at / DAY_MS))].sort(([a], [b]) => b - a)) {
    const isKept = (day + 1) * DAY_MS > earliest;
    if (!isKept || now() - began > PATIENCE_MS) {
      since = isKept ? (day + 1) * DAY_MS : earliest;
      break;
    }
    if (day * DAY_MS < earliest) since = earliest;
    for (const [person, call] of lastOf(own, await callsAround(db, own))) found.set(person, call);
  }
  return {
    people: found.size,
    asked: stops.length,
    sampled: [...found.values()].some(({ keptOf }) => keptOf > 1),
    since: since === null || !Number.isFinite(since) ? null : new Date(since).toISOString(),
    items: itemsOf([...found.values()]),
  };
}

function callsAround(db: Environment['db'], stops: readonly Stop[]): Promise<TroubledCall[]> {
  const times = stops.map(({ at }) => at);
  return troubledCalls(db, {
    from: Math.min(...times) - BEFORE_MS,
    until: Math.max(...times) + AFTER_MS,
    users: [...new Set(stops.flatMap(({ userId }) => userId ?? []))],
    devices: [...new Set(stops.flatMap(({ deviceIds }) => [...deviceIds]))],
  });
}

/** @param calls in order of time */
function lastOf(stops: readonly Stop[], calls: readonly TroubledCall[]): Map<number, TroubledCall> {
  const byUser = new Map(stops.flatMap((stop) => (stop.userId ? [[stop.userId, stop] as const] : [])));
  const byDevice = new Map(stops.flatMap((stop) => [...stop.deviceIds].map((id) => [id, stop] as const)));
  const last = new Map<number, TroubledCall>();
  for (const call of calls) {
    // Of several users of one device, the call belongs to the one who made it.
    const stop = call.userId ? byUser.get(call.userId) : byDevice.get(call.deviceId ?? '');
    const since = call.at.getTime() - (stop?.at ?? 0);
    if (stop && since >= -BEFORE_MS && since <= AFTER_MS) last.set(stop.person, call);
  }
  return last;
}

function itemsOf(calls: readonly TroubledCall[]): WhyReply['calls']['items'] {
  return [...grouped(calls, ({ problem, method, route, target }) => JSON.stringify([problem, method, route, target])).values()]
    .map((own) => {
      const { problem, method, route, target, id } = own.reduce((latest, call) => (call.at > latest.at ? call : latest));
      return { problem, method, route, target, people: own.length, request: id };
    })
    .sort((a, b) => b.people - a.people)
    .slice(0, MOST_ITEMS);
}
