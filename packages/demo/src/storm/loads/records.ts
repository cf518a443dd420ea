/** Records that are written, created once, counted and imported. */
import { randomUUID } from 'node:crypto';
import { operations } from '@orchard/contract';
import { ask, patiently, lanes, type Load, type Place } from './load.js';

/** Records that are written again and again: what was acknowledged last is there, or something that was sent after it. */
export function writers(place: Place, count: number): Load {
  const known = new Map<string, { acknowledged: number; open: Set<number> }>();
  let done = 0;
  return {
    begin: (until) =>
      lanes(count, async (lane) => {
        for (let i = 1; !until.aborted; i++) {
          const id = `w${lane}-${i % 20}`;
          const record = known.get(id) ?? { acknowledged: 0, open: new Set() };
          known.set(id, record);
          const answer = await ask(place, 'PUT', `/data/huts/${id}`, { name: id, beds: i });
          if (answer && answer.status < 300) {
            record.acknowledged = i;
            done++;
          } else record.open.add(i);
        }
      }),
    verify: async () => {
      const wrong: string[] = [];
      for (const [id, { acknowledged, open }] of known) {
        const { status, body } = await patiently(place, 'GET', `/data/huts/${id}`);
        const beds = status === 200 ? (body as { beds: number }).beds : 0;
        if (beds !== acknowledged && !open.has(beds)) wrong.push(`${id} is ${beds}, acknowledged was ${acknowledged}`);
      }
      return { load: 'writers', done, unit: 'writes', wrong };
    },
  };
}

/** Records that are made once: each is sent until it is acknowledged, with the same Idempotency-Key. */
export function creators(place: Place, count: number): Load {
  const made = new Map<string, string>();
  return {
    begin: (until) =>
      lanes(count, async (lane) => {
        for (let i = 0; !until.aborted; i++) {
          const mark = `${lane}-${i}`;
          const { status, body } = await patiently(
            place,
            'POST',
            '/data/notes',
            { mark },
            { 'idempotency-key': `note-${mark}-${randomUUID()}` },
          );
          if (status < 300) made.set(mark, (body as { id: string }).id);
        }
      }),
    verify: async () => {
      const found = new Map<string, string[]>();
      let cursor = '';
      do {
        const { body } = await patiently(place, 'GET', `/data/notes?limit=200${cursor && `&cursor=${encodeURIComponent(cursor)}`}`);
        const { items, next } = body as { items: { id: string; mark: string }[]; next: string | null };
        for (const { id, mark } of items) found.set(mark, [...(found.get(mark) ?? []), id]);
        cursor = next ?? '';
      } while (cursor);
      const wrong = [...made].flatMap(([mark, id]) => (found.get(mark)?.includes(id) ? [] : [`the note ${mark} is lost`]));
      for (const [mark, ids] of found) if (ids.length > 1) wrong.push(`the note ${mark} was made ${ids.length} times`);
      return { load: 'creators', done: made.size, unit: 'records', wrong };
    },
  };
}

/** Sums that everybody adds to: each addition is sent until it is acknowledged, and counts once. */
export function counters(place: Place, count: number): Load {
  let added = 0;
  return {
    begin: async (until) => {
      await patiently(place, 'PUT', '/data/sums/all', { n: 0 });
      await lanes(count, async () => {
        while (!until.aborted) {
          const key = { 'idempotency-key': `sum-${randomUUID()}` };
          const { status } = await patiently(place, 'PATCH', '/data/sums/all', { _add: { n: 1 } }, key);
          if (status < 300) added++;
        }
      });
    },
    verify: async () => {
      const { body } = await patiently(place, 'GET', '/data/sums/all');
      const { n } = body as { n: number };
      return {
        load: 'counters',
        done: added,
        unit: 'additions',
        wrong: n === added ? [] : [`the sum is ${n}, ${added} were acknowledged`],
      };
    },
  };
}

/** Rows of a file, by their ids, again and again. */
export function imports(place: Place, rows: number): Load {
  let last = 0;
  let open = false;
  let done = 0;
  return {
    begin: async (until) => {
      await patiently(place, 'PUT', '/data/rows/first', { batch: 0 });
      for (let batch = 1; !until.aborted; batch++) {
        const lines = Array.from({ length: rows }, (_, i) => JSON.stringify({ id: `row-${i}`, batch })).join('\n');
        const params = { ...place.params, collection: 'rows' };
        const report = await place.owner
          .open(operations.collections.importRecords, { params, query: { format: 'ndjson', key: 'id' }, raw: lines })
          .then((reply) => reply.json() as Promise<{ rejected: number }>)
          .catch(() => null);
        if (report?.rejected === 0) {
          [last, open] = [batch, false];
          done++;
        } else open = true;
      }
    },
    verify: async () => {
      const wrong: string[] = [];
      for (let i = 0; i < rows && last > 0; i += Math.max(1, Math.floor(rows / 200))) {
        const { body } = await patiently(place, 'GET', `/data/rows/row-${i}`);
        const { batch } = body as { batch: number };
        if (batch !== last && !(open && batch > last)) wrong.push(`row-${i} is of file ${batch}, the last whole one was ${last}`);
      }
      return { load: 'imports', done, unit: `files of ${rows} rows`, wrong };
    },
  };
}
