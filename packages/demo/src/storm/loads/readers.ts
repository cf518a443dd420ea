/** Live readers: each sees every change, in order. */
import { setMaxListeners } from 'node:events';
import { setTimeout as sleep } from 'node:timers/promises';
import { followEvents } from '@orchard/contract';
import { patiently, type Load, type Place } from './load.js';

/** Live readers: each sees every version of each record, in order, whatever it is connected to. */
export function readers(place: Place, count: number): Load {
  const seen = Array.from({ length: count }, () => new Map<string, number>());
  const wrong = new Set<string>();
  let events = 0;
  const stopping = new AbortController();
  // Every reader listens to it, with each of its connections.
  setMaxListeners(0, stopping.signal);
  const take = (reader: Map<string, number>, data: unknown) => {
    const { id, version } = (data as { record?: { id: string; version: number } } | null)?.record ?? {};
    if (id === undefined || version === undefined) return;
    events++;
    const before = reader.get(id);
    if (before !== undefined && version > before + 1) wrong.add(`a reader saw ${id} at version ${version} after ${before}`);
    if (before !== undefined && version < before) wrong.add(`a reader saw ${id} go back from version ${before} to ${version}`);
    reader.set(id, version);
  };
  return {
    begin: async () => {
      for (const reader of seen)
        void followEvents({
          open: (headers, signal) =>
            fetch(`${place.address}/app/v1/live/huts`, { headers: { 'orchard-key': place.serverKey, ...headers }, signal }).then(
              (reply) => {
                if (!reply.ok) throw Object.assign(new Error('refused'), { status: reply.status });
                return reply;
              },
            ),
          onEvent: ({ data }) => take(reader, data),
          signal: stopping.signal,
        }).catch((error) => wrong.add(`a stream was refused: ${(error as { status?: number }).status}`));
    },
    verify: async () => {
      const { body } = await patiently(place, 'GET', '/data/huts?limit=200');
      const { items } = body as { items: { id: string; version: number }[] };
      const behind = () => seen.filter((reader) => items.some(({ id, version }) => reader.has(id) && reader.get(id) !== version));
      for (let waited = 0; behind().length > 0 && waited < 90_000; waited += 500) await sleep(500);
      const late = behind();
      const [one] = late;
      const { id, version } = items.find((item) => one?.has(item.id) && one.get(item.id) !== item.version) ?? {};
      if (one) wrong.add(`${late.length} readers are behind: one has ${id} at version ${one.get(id as string)}, not ${version}`);
      stopping.abort();
      return { load: 'live readers', done: events, unit: `events at ${count} readers`, wrong: [...wrong] };
    },
  };
}
