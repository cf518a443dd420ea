/**
 * Live readers of outside tables: the column for changes is looked at every two seconds, as long as somebody listens. What was
 * deleted there is not seen.
 */
import { setTimeout as sleep } from 'node:timers/promises';
import { Problem } from '@orchard/contract';
import type { Author } from '../records/author.js';
import { type EventStream, eventText } from '../../platform/live/eventStream.js';
import type { Parts } from './parts.js';
import type { ChangePoint, OutsideRows } from './rowsStore.js';

export const LOOK_MS = 2_000;
const AT_ONCE = 500;
/** Ids that a reader was shown, so that it hears when they fit no more. */
const MOST_SHOWN = 10_000;
/** A signed-in reader must reconnect with a fresh token after this. */
const LIFETIME_MS = 10 * 60_000;

type Watched = { filter?: string | undefined; id?: string };

/** @throws {Problem} outside-unsupported, malformed-filter, access-refused, outside-unavailable */
export async function followOutside(
  parts: Parts,
  rows: OutsideRows,
  author: Author,
  watched: Watched,
): Promise<(events: EventStream) => Promise<void>> {
  const { table } = rows;
  if (!table.row.changes) table.refuse('no column of it is named that tells of changes, so it cannot be followed live');
  // A filter or rule that does not fit is a problem response, before the stream begins.
  if (watched.id === undefined) await rows.list({ filter: watched.filter, limit: 1 }, author);
  const filter = watched.id === undefined ? watched.filter : `id = '${watched.id.replaceAll("'", "''")}'`;
  const from = await rows.latestChange();
  return async (events) => {
    const until = author.userId ? parts.now() + LIFETIME_MS : Number.POSITIVE_INFINITY;
    if (watched.id === undefined) events.send(eventText('ready', 0, JSON.stringify({ number: 0 })));
    else await sendPresent(rows, author, events, watched.id);
    void look(parts, rows, author, events, { from, filter, one: watched.id !== undefined, until });
  };
}

async function sendPresent(rows: OutsideRows, author: Author, events: EventStream, id: string): Promise<void> {
  const record = await rows.read(id, author, {}).catch((error) => {
    if (error instanceof Problem && (error.problem === 'not-found' || error.problem === 'access-refused')) return null;
    throw error;
  });
  events.send(record ? eventText('current', 0, JSON.stringify({ record })) : eventText('absent', 0, JSON.stringify({ id })));
}

async function look(
  parts: Parts,
  rows: OutsideRows,
  author: Author,
  events: EventStream,
  { from, filter, one, until }: { from: ChangePoint | null; filter: string | undefined; one: boolean; until: number },
): Promise<void> {
  const shown = new Set<string>();
  let after = from;
  let ended = false;
  events.onEnd(() => {
    ended = true;
  });
  let isBehind = false;
  while (!ended) {
    if (!isBehind) await sleep(LOOK_MS, undefined, { ref: false });
    if (parts.now() > until) return events.end();
    if (events.cutIfStuck() || !events.hasRoom) {
      isBehind = false;
      continue;
    }
    // A server that is away for a while is asked again; what changed meanwhile is found then.
    const changed = await rows.changedSince(after, filter, author, AT_ONCE).catch(() => []);
    isBehind = changed.length === AT_ONCE;
    for (const { record, at, seen } of changed) {
      after = { at, key: record.id };
      const event = seen ? (one || shown.has(record.id) ? 'changed' : 'entered') : shown.delete(record.id) ? 'left' : null;
      if (seen && shown.size < MOST_SHOWN) shown.add(record.id);
      if (!event) continue;
      const data = event === 'left' ? { id: record.id, version: record.version, deleted: false } : { record };
      events.send(eventText(event, 0, JSON.stringify(data)));
    }
    if (changed.length === 0) events.send(eventText(null, 0));
  }
}
