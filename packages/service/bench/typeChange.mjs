// Another type for a field while the collection is written to: how long the change takes, and how long writers wait.
import { operations } from '@orchard/contract';

const WRITERS = 4;
const CALM_MS = 4_000;
const percentile = (list, share) => [...list].sort((a, b) => a - b)[Math.min(list.length - 1, Math.floor(list.length * share))];
const inWords = (waits) =>
  `${waits.length.toLocaleString('en-GB')} writes, p50 ${percentile(waits, 0.5).toFixed(1)} ms, p99 ${percentile(waits, 0.99).toFixed(0)} ms, longest ${Math.max(...waits).toFixed(0)} ms`;

/** Fills a collection with `rows` records, then changes an integer field to text while four writers change random records. */
export async function typeChange({ service, send, headers, member, params, rows }) {
  const at = { ...params, collection: 'loads' };
  const fields = [
    { name: 'name', type: 'text' },
    { name: 'kilos', type: 'integer' },
  ];
  await member.call(operations.collections.create, { params, body: { name: 'loads', fields } });
  for (let first = 0; first < rows; first += 1000)
    await send(
      {
        url: `${service.address}/app/v1/data/loads/batch`,
        method: 'POST',
        headers: { ...headers, 'content-type': 'application/json' },
        body: JSON.stringify({
          actions: Array.from({ length: Math.min(1000, rows - first) }, (_, i) => ({
            action: 'create',
            record: { id: `load-${first + i}`, name: `Load ${first + i}`, kilos: (first + i) % 500 },
          })),
        }),
      },
      200,
    );
  let waits = [];
  let going = true;
  const writing = Array.from({ length: WRITERS }, async (_, writer) => {
    for (let i = writer; going; i++) {
      const started = performance.now();
      await send(
        {
          url: `${service.address}/app/v1/data/loads/load-${Math.floor(Math.random() * rows)}`,
          method: 'PATCH',
          headers: { ...headers, 'content-type': 'application/json' },
          // Not the field that changes its type: numbers are refused from the swap on.
          body: JSON.stringify({ name: `Again ${i}` }),
        },
        200,
      );
      waits.push(performance.now() - started);
    }
  });
  await new Promise((resolve) => setTimeout(resolve, CALM_MS));
  const calm = waits;
  waits = [];
  const started = performance.now();
  await member.call(operations.collections.change, {
    params: at,
    query: {},
    body: { change: 'set', name: 'kilos', field: { type: 'text' } },
  });
  const seconds = (performance.now() - started) / 1000;
  const during = waits;
  going = false;
  await Promise.all(writing);
  return { seconds, calm: inWords(calm), during: inWords(during), longest: Math.max(...during), calmLongest: Math.max(...calm) };
}
