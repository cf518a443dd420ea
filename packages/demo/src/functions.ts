/** The association's own code: what an app would ask in three calls, warnings of hazards, and a job each morning. */
import { createHttpClient, type HttpClient, type NewFunctionVersion, operations } from '@orchard/contract';
import { APP, HUTS } from './scenario.js';

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

const HAZARD_CHECK = `/** A hazard is approved with a place and a note, so that a warning says where and what. */
const handler: BeforeWrite<'hazards'> = ({ before, record }, { refuse }) => {
  if (record!.state !== 'approved' || before?.state === 'approved') return;
  if (!record!.position) refuse('Say where it is before it is approved.', { field: 'position' });
  const note = (record!.note ?? '').trim();
  if (note.length < 5) refuse('Describe it before it is approved.', { field: 'note' });
  return { record: { note } };
};
export default handler;
`;
const HAZARD_CHECK_TEST = `test('a hazard without a place is not approved', {
  when: { action: 'update', before: { state: 'reported' }, record: { state: 'approved', note: 'Rocks on the path.' } },
  then: ({ refusal }, { equal }) => equal(refusal?.field, 'position'),
});
test('its note is trimmed', {
  when: {
    action: 'update',
    before: { state: 'reported' },
    record: { state: 'approved', note: '  Rocks on the path.  ', position: { type: 'Point', coordinates: [8.3, 61.2] } },
  },
  then: ({ answer }, { equal }) => equal(answer, { record: { note: 'Rocks on the path.' } }),
});
`;
const HAZARD_WARNING = `/** Warns everyone who was last seen within five kilometres of a hazard that a warden approved. */
const handler: AfterWrite<'hazards'> = async ({ before, record }, { records, notify, log }) => {
  if (record?.state !== 'approved' || before?.state === 'approved') return;
  const [longitude, latitude] = record.position!.coordinates;
  const { items } = await records('whereabouts').list({
    filter: \`distance(position, POINT(\${longitude} \${latitude})) < 5000\`,
    limit: 500,
  });
  const users = items.map(({ ownerId }) => ownerId).filter((id) => id !== null);
  log.info(record.kind, 'warns', users.length, 'people');
  if (users.length === 0) return;
  await notify({ title: \`Ahead of you: \${record.kind}\`, body: record.note, audience: { users }, link: \`/hazards/\${record.id}\` });
};
export default handler;
`;
const ARRIVALS = `/** Tells the wardens each morning how many guests arrive. */
const handler: Schedule = async ({ due }, { records, log }) => {
  const day = due.slice(0, 10);
  const { groups } = await records('bookings').summary({
    group: 'hut',
    measure: 'count,sum:party',
    filter: \`arrives = DATE('\${day}') AND state <> 'cancelled'\`,
  });
  for (const group of groups) log.info(group.hut, 'expects', group['sum:party'], 'guests');
};
export default handler;
`;
/** What the app shows of a hut: from the records, the weather office and the payment office. */
const HUT_PAGE = {
  calls: {
    hut: { records: 'huts', read: '{params.hut}' },
    weather: { upstream: 'weather', path: '/forecasts/{hut.id}', failing: { instead: { sky: 'unknown' } } },
    prices: { upstream: 'payments', path: '/prices', pages: { items: 'items', next: 'next', as: 'cursor' }, failing: 'without' },
  },
  answer: {
    name: '{hut.name}',
    state: '{hut.state}',
    free: '{hut.freeBunks}',
    sky: '{weather.sky}',
    windMs: '{weather.windMs}',
    prices: { each: '{prices.items}', as: 'price', give: { kind: '{price.kind}', crowns: '{price.crowns}' } },
  },
  headers: { 'cache-control': 'max-age=60' },
};

const params = { app: APP.name, environment: 'dev' };

export async function seedFunctions(owner: HttpClient): Promise<void> {
  const put = (name: string, body: Omit<NewFunctionVersion, 'rights' | 'hosts' | 'use'> & { rights?: 'own' }) =>
    owner.call(operations.functions.put, { params: { ...params, name }, body });
  await put('hut-today', { kind: 'endpoint', path: 'huts/{hut}/today', callers: 'anyone', source: HUT_TODAY });
  await put('hut-page', {
    kind: 'endpoint',
    path: 'huts/{hut}/page',
    callers: 'anyone',
    files: { 'combine.json': JSON.stringify(HUT_PAGE, null, 2) },
  });
  await put('hazard-check', {
    kind: 'hook',
    on: { moment: 'before', collection: 'hazards', actions: ['create', 'update'] },
    files: { 'main.ts': HAZARD_CHECK, 'main.test.ts': HAZARD_CHECK_TEST },
  });
  await put('hazard-warning', {
    kind: 'hook',
    on: { moment: 'after', collection: 'hazards', actions: ['update'] },
    rights: 'own',
    source: HAZARD_WARNING,
  });
  await put('arrivals', { kind: 'schedule', clock: '0 6 * * *', zone: 'Europe/Oslo', source: ARRIVALS });
}

/** Somebody looks at huts, and a warden approves a hazard. */
export async function useFunctions(owner: HttpClient, address: string, { clientKey }: { clientKey: string }): Promise<void> {
  const app = createHttpClient({ address, headers: () => ({ 'orchard-key': clientKey, 'user-agent': 'QuillfellHiker/2.6.1 (iOS 19.2)' }) });
  // A closed hut is refused, and its run says so.
  for (const { id } of HUTS.slice(0, 6))
    for (const page of ['today', 'page'])
      await app.call(operations.endpoints.get, { params: { path: `huts/${id}/${page}` } }).catch(() => undefined);
  const collection = { ...params, collection: 'hazards' };
  const { items } = await owner.call(operations.managedRecords.list, {
    params: collection,
    query: { filter: "state = 'reported'", limit: 2 },
  });
  for (const { id } of items)
    await owner.call(operations.managedRecords.patch, { params: { ...collection, id }, body: { state: 'approved' } });
}
