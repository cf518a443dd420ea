/** An endpoint that answers in one call what an app would ask in three. */
import { type HttpClient, operations } from '@orchard/contract';
import { APP } from './scenario.js';

const HUT_TODAY = `/** A hut as the app's first page shows it: itself, its notices, and how full it is. */
const handler: Endpoint = async ({ params, query }, { records, refuse, log }) => {
  const hut = await records('huts').read(params.hut);
  if (hut.state === 'closed') refuse('The hut is closed.', { status: 409 });
  const of = \`hut = '\${hut.id}'\`;
  const day = query.day ?? '2026-01-01';
  const [notices, booked] = await Promise.all([
    records('notices').list({ filter: \`\${of} AND until >= DATE('\${day}')\`, limit: 5 }),
    records('bookings').summary({
      filter: \`\${of} AND state <> 'cancelled'\`,
      measure: 'count,sum:party',
    }),
  ]);
  log.info('shown', hut.id, notices.items.length, 'notices');
  return {
    headers: { 'cache-control': 'max-age=60' },
    body: {
      name: hut.name,
      state: hut.state,
      free: hut.freeBunks,
      notices: notices.items.map(({ title, body }) => ({ title, body })),
      bookings: booked.groups[0],
    },
  };
};
export default handler;
`;

export async function seedFunctions(owner: HttpClient): Promise<void> {
  const params = { app: APP.name, environment: 'dev', name: 'hut-today' };
  await owner.call(operations.functions.put, {
    params,
    body: { kind: 'endpoint', path: 'huts/{hut}/today', callers: 'anyone', source: HUT_TODAY },
  });
}
