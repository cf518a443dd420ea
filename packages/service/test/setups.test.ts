/** Setup as a file: read, compared, applied, proposed, promoted, and put back. */
import { operations, setupFile } from '@orchard/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, memberClient, startTestService, type TestApp, type TestService } from './support.js';

const own = operations.setups;
let test: TestService;
let app: TestApp;
let number = 0;
let place: { app: string; environment: string };

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
});
afterAll(() => test.stop());
beforeEach(async () => {
  app = await makeApp(test, `hiker-${++number}`);
  place = app.dev.params;
});

const HUTS = {
  fields: {
    name: { type: 'text', required: true, unique: true },
    bunks: { type: 'integer', min: 0 },
    position: { type: 'place' },
  },
  rules: { read: 'everyone', create: 'nobody', update: 'nobody', delete: 'nobody' },
  indexes: [{ fields: ['position'] }, { fields: ['bunks', 'name'] }],
};
const FILE = {
  setup: 1,
  collections: {
    // A reference to a collection that comes later, and a rule over it.
    bookings: {
      fields: {
        hut: { type: 'reference', to: 'huts', required: true },
        nights: { type: 'integer', max: 14 },
        keeper: { type: 'reference', to: 'users' },
      },
      rules: { read: "ownerId = me('id') OR hut.bunks > 40", create: 'owner', update: 'owner', delete: 'owner' },
    },
    huts: HUTS,
  },
  userFields: { club: { type: 'choice', choices: ['fell', 'dale'], changedBy: 'servers' } },
  roles: { warden: { description: 'Looks after huts', rule: "club = 'fell'" } },
  entry: { signUp: 'domains', domains: ['quillfell.example'] },
  mails: { invitation: { en: { subject: 'Come along', text: 'Join us: {link}' } } },
  topics: { ridge: { title: 'The ridge' }, huts: {} },
  channels: { ridge: { rules: { listen: 'TRUE', publish: "me('id') IS NOT NULL" }, keep: 20 } },
  folders: { photos: { rules: { read: 'TRUE', create: "me('id') IS NOT NULL", update: 'FALSE', delete: 'FALSE' }, public: true } },
  functions: {
    'hut-today': {
      kind: 'endpoint',
      callers: 'anyone',
      files: {
        'main.ts':
          "const handler: Endpoint = async (_call, { records }) => ({ body: (await records('huts').list()).items.length });\nexport default handler;\n",
      },
    },
  },
  events: { hut_opened: { description: 'A hut page', properties: { hut: { type: 'text' } } } },
  objectives: {
    quick: { subject: { of: 'calls' }, measure: { of: 'latency', statistic: 'p95' }, windowMs: 300_000, stressed: 200, failing: 500 },
  },
  reports: { 'Open huts': { source: 'records', collection: 'huts', filter: 'bunks > 0' } },
};
type Wanted = { [kind: string]: unknown };

const compare = (setup: Wanted, more: object = {}) => test.owner.call(own.compare, { params: place, body: { setup, ...more } as never });
const apply = async (setup: Wanted, more: object = {}) => {
  const { id } = await test.owner.call(own.apply, { params: place, body: { setup, ...more } as never });
  return ended(id);
};
const ended = (id: string) =>
  eventually(async () => {
    const release = await test.owner.call(own.release, { params: { ...place, release: id } });
    return !['running', 'returning'].includes(release.state) && release;
  });
const read = async () => (await test.owner.call(own.read, { params: place })).setup as { [kind: string]: { [name: string]: Wanted } };
const put = (collection: string, id: string, body: object) =>
  test.owner.call(operations.managedRecords.put, { params: { ...place, collection, id }, body: body as never });

describe('a setup file', () => {
  it('is applied to an empty environment, reads back as what it says, and differs in nothing afterwards', async () => {
    const difference = await compare(FILE);
    // A new environment has objectives of its own.
    expect(new Set(difference.changes.filter(({ action }) => action === 'drop').map(({ kind }) => kind))).toEqual(new Set(['objectives']));
    const release = await apply(FILE, { base: difference.base, why: 'First release' });
    expect(release).toMatchObject({ state: 'done', why: 'First release', problem: null });
    expect(release.done).toBe(release.total);
    expect((await compare(FILE)).changes).toEqual([]);
    const setup = await read();
    expect(setupFile.safeParse(setup).success).toBe(true);
    expect((await compare(setup)).changes).toEqual([]);
    expect(setup.collections?.huts?.rules).toEqual(HUTS.rules);
    await put('huts', 'fellgate', { name: 'Fellgate', bunks: 48 });
    const called = await fetch(`${test.address}/app/v1/endpoints/hut-today`, { headers: { 'orchard-key': app.dev.clientKey } });
    expect(await called.json()).toBe(1);
  });

  it('that speaks of one kind leaves all others as they are', async () => {
    await apply(FILE);
    const { changes } = await compare({ setup: 1, topics: { ridge: { title: 'The ridge' } } });
    expect(changes.map(({ kind, name, action }) => [kind, name, action])).toEqual([['topics', 'huts', 'drop']]);
  });

  it.each<[string, Wanted, string]>([
    ['an unknown kind', { setup: 1, colections: {} }, 'Unknown field `colections`; did you mean `collections`?'],
    ['an unknown member inside', { setup: 1, topics: { ridge: { titl: 'x' } } }, 'did you mean `title`?'],
    ['an unknown type', { setup: 1, collections: { huts: { fields: { a: { type: 'txt' } } } } }, 'Must be one of text'],
    ['a form of a newer version', { setup: 2 }, 'a later version of this service writes'],
    ['a wrong name', { setup: 1, collections: { Huts: {} } }, 'The name must be a lower-case letter'],
  ])('with %s is refused by name', async (_what, setup, problem) => {
    const answer = await compare(setup).catch((error) => error);
    expect(answer).toMatchObject({ problem: 'setup-invalid' });
    expect(JSON.stringify(answer.extras.fields)).toContain(JSON.stringify(problem).slice(1, -1));
  });
});

const field = (name: string, definition: object, more: object = {}) => ({
  setup: 1,
  collections: { huts: { ...HUTS, fields: { ...HUTS.fields, [name]: definition }, ...more } },
});
const changeOf = ({ changes }: Awaited<ReturnType<typeof compare>>, kind: string, name: string) =>
  changes.find((change) => change.kind === kind && change.name === name);

describe('a difference', () => {
  beforeEach(async () => {
    await apply({ setup: 1, collections: { huts: HUTS } });
    await put('huts', 'fellgate', { name: 'Fellgate', bunks: 48 });
    await put('huts', 'birkrigg', { name: 'Birkrigg', bunks: 6 });
  });

  it('says which records no longer fit, and is applied only when that is accepted', async () => {
    const wanted = field('bunks', { type: 'integer', max: 10 });
    const difference = await compare(wanted);
    expect(difference.loses).toBe(true);
    expect(changeOf(difference, 'collections', 'huts')?.effects).toMatchObject([
      { loses: true, records: 1, examples: [{ id: 'fellgate', value: 48 }] },
    ]);
    await expect(apply(wanted)).rejects.toMatchObject({ problem: 'setup-loses-data' });
    const retyped = changeOf(await compare(field('bunks', { type: 'text' })), 'collections', 'huts');
    expect(retyped?.effects.map(({ text, loses, lockMs }) => [text, loses, lockMs])).toEqual([
      ['bunks becomes text instead of integer; writers wait up to 100 ms', false, 100],
      [expect.stringMatching(/^The index `by_bunks_name` is rebuilt\. Values become text; .*[^.]$/), false, 0],
    ]);
    expect((await apply(wanted, { loseData: true })).state).toBe('done');
  });

  it('says what is lost with a collection, and who was seen to use it', async () => {
    const key = app.dev.clientKey;
    expect((await test.app('GET', '/data/huts', { key })).status).toBe(200);
    const change = await eventually(async () => {
      const found = changeOf(await compare({ setup: 1, collections: {} }), 'collections', 'huts');
      return (found?.uses.length ?? 0) > 0 && found;
    });
    expect(change).toMatchObject({ action: 'drop', effects: [{ text: '2 records are deleted with it', loses: true }] });
    expect(change.uses[0]?.by).toMatch(/^client /);
  });

  it('tells a new name of a field from a drop and an addition, by `was`', async () => {
    const { bunks, ...others } = HUTS.fields;
    const untold = { setup: 1, collections: { huts: { ...HUTS, fields: { ...others, beds: bunks }, indexes: [] } } };
    const hinted = changeOf(await compare(untold), 'collections', 'huts');
    expect(hinted?.hints).toEqual(['If beds is the new name of bunks, say `was: bunks` in beds: its values stay then.']);
    const told = { setup: 1, collections: { huts: { ...HUTS, fields: { ...others, beds: { ...bunks, was: 'bunks' } }, indexes: [] } } };
    const difference = await compare(told);
    expect(changeOf(difference, 'collections', 'huts')).toMatchObject({ renames: { beds: 'bunks' } });
    expect(difference.loses).toBe(false);
    expect((await apply(told)).state).toBe('done');
    expect(
      await test.owner.call(operations.managedRecords.read, { params: { ...place, collection: 'huts', id: 'fellgate' } }),
    ).toMatchObject({ beds: 48 });
    // The key may stay in the file.
    expect((await compare(told)).changes).toEqual([]);
  });

  it('of parts that were chosen leaves the others alone', async () => {
    const wanted = { setup: 1, topics: { ridge: {}, huts: {} }, channels: { ridge: { rules: { listen: 'TRUE', publish: 'TRUE' } } } };
    const { changes } = await compare(wanted, { only: ['topics/ridge'] });
    expect(changes.map(({ kind, name }) => `${kind}/${name}`)).toEqual(['topics/ridge']);
  });

  it('names a collection that a part speaks of and that is not there, and the one that may be meant', async () => {
    const walks = { fields: { hut: { type: 'reference', to: 'hust' } } };
    const difference = await compare({
      setup: 1,
      collections: { huts: HUTS, walks },
      reports: { Huts: { source: 'records', collection: 'huts' } },
    });
    expect(changeOf(difference, 'collections', 'walks')?.blocked).toBe(
      'it speaks of the collection `hust`, which is not there; did you mean `huts`?',
    );
    expect(changeOf(difference, 'reports', 'Huts')?.blocked).toBeNull();
    const report = { setup: 1, reports: { Walks: { source: 'records', collection: 'walks' } } };
    expect(changeOf(await compare(report), 'reports', 'Walks')?.blocked).toContain('`walks`, which is not there');
  });

  it('names a secret that is not there', async () => {
    const wanted = {
      setup: 1,
      upstreams: { weather: { address: 'https://weather.example', identify: { way: 'header', header: 'X-Key', secret: 'weather-key' } } },
    };
    expect(changeOf(await compare(wanted), 'upstreams', 'weather')?.blocked).toContain('no secret weather-key');
    await expect(apply(wanted)).rejects.toMatchObject({ problem: 'setup-invalid' });
  });
});

describe('a release', () => {
  it('goes back to where it was when a step fails, with the values of what was dropped', async () => {
    await apply({ setup: 1, collections: { huts: HUTS }, topics: { ridge: { title: 'Ridge' } } });
    await put('huts', 'fellgate', { name: 'Fellgate', bunks: 48 });
    const before = await read();
    const { bunks, ...others } = HUTS.fields;
    const release = await apply({
      setup: 1,
      collections: {
        huts: { ...HUTS, fields: { ...others, beds: { ...bunks, was: 'bunks' }, note: { type: 'text' } }, indexes: [] },
        walks: { fields: { title: { type: 'text' } } },
      },
      topics: { ridge: { title: 'Another' } },
      // Refers to a collection that is not there, which only saving it finds out.
      functions: { broken: { kind: 'endpoint', files: { 'main.ts': 'export default async () => nothing.here;' } } },
    });
    expect(release).toMatchObject({ state: 'returned', problem: expect.stringContaining('Add the function broken') });
    expect(await read()).toEqual(before);
    expect(
      await test.owner.call(operations.managedRecords.read, { params: { ...place, collection: 'huts', id: 'fellgate' } }),
    ).toMatchObject({ bunks: 48 });
  });

  it('is refused where somebody changed the setup since the comparison', async () => {
    const wanted = { setup: 1, topics: { ridge: {} } };
    const { base } = await compare(wanted);
    await test.owner.call(operations.topics.put, { params: { ...place, topic: 'storms' }, body: {} });
    await expect(apply(wanted, { base })).rejects.toMatchObject({ problem: 'setup-changed' });
  });

  it('compares while somebody takes away what is being compared', async () => {
    const collection = { ...place, collection: 'brief' };
    for (let round = 0; round < 10; round++) {
      await test.owner.call(operations.collections.create, {
        params: place,
        body: { name: 'brief', fields: [{ name: 'note', type: 'text' }] },
      });
      const comparing = Array.from({ length: 4 }, () => compare({ setup: 1, collections: { brief: { fields: {} } } }));
      const [, ...differences] = await Promise.all([test.owner.call(operations.collections.remove, { params: collection }), ...comparing]);
      for (const { changes } of differences)
        expect(changes.filter(({ name }) => name === 'brief')).toMatchObject([{ action: expect.stringMatching(/^(make|change)$/) }]);
    }
  });

  it('is one at a time', async () => {
    const many = Object.fromEntries(Array.from({ length: 60 }, (_, i) => [`topic-${i}`, {}]));
    const both = await Promise.allSettled([apply({ setup: 1, topics: many }), apply({ setup: 1, topics: { ...many, other: {} } })]);
    const refused = both.filter(({ status }) => status === 'rejected') as PromiseRejectedResult[];
    expect(refused.map(({ reason }) => reason.problem)).toEqual(['setup-in-progress']);
    expect(both.filter(({ status }) => status === 'fulfilled')).toHaveLength(1);
  });

  it('waits for a second member where the environment asks for one', async () => {
    await test.owner.call(own.changeSettings, { params: place, body: { approval: true } });
    const { id, state } = await test.owner.call(own.apply, {
      params: place,
      body: { setup: { setup: 1, topics: { ridge: {} } }, why: 'Storms' },
    });
    expect(state).toBe('proposed');
    const params = { ...place, release: id };
    await expect(test.owner.call(own.decide, { params, body: { approve: true } })).rejects.toMatchObject({ problem: 'access-refused' });
    const account = { email: `ines${number}@quillfell.example`, password: 'orchard-in-bloom' };
    await test.owner.call(operations.members.add, { body: { ...account, name: 'Ines', roles: [{ app: place.app, role: 'maintainer' }] } });
    const ines = await memberClient(test.address, account);
    await ines.call(own.decide, { params, body: { approve: true, comment: 'Looks right' } });
    expect(await ended(id)).toMatchObject({
      state: 'done',
      decision: 'Looks right',
      decidedBy: { kind: 'member' },
      by: { kind: 'member' },
    });
    await expect(ines.call(own.decide, { params, body: { approve: true } })).rejects.toMatchObject({ problem: 'wrong-state' });
  });

  it('can be undone, and fields that it dropped come back with their values', async () => {
    await apply({ setup: 1, collections: { huts: HUTS } });
    await put('huts', 'fellgate', { name: 'Fellgate', bunks: 48 });
    const { bunks: _, ...others } = HUTS.fields;
    const { id } = await apply({ setup: 1, collections: { huts: { ...HUTS, fields: others, indexes: [] } } }, { loseData: true });
    const { id: undoing } = await test.owner.call(own.apply, { params: place, body: { release: id, why: 'Too early' } });
    expect((await ended(undoing)).state).toBe('done');
    expect(
      await test.owner.call(operations.managedRecords.read, { params: { ...place, collection: 'huts', id: 'fellgate' } }),
    ).toMatchObject({ bunks: 48 });
  });

  it('is told apart from what was changed by hand afterwards', async () => {
    await apply({ setup: 1, topics: { ridge: {}, huts: {} } });
    expect((await test.owner.call(own.read, { params: place })).departs).toEqual([]);
    await test.owner.call(operations.topics.put, { params: { ...place, topic: 'storms' }, body: {} });
    expect((await test.owner.call(own.read, { params: place })).departs).toEqual([{ kind: 'topics', name: 'storms', action: 'make' }]);
  });

  it('promotes what another environment has, and stands in the audit with what it did', async () => {
    await apply(FILE);
    const live = { app: place.app, environment: 'live' };
    const body = { from: place, only: ['collections', 'topics', 'userFields'], why: '2.4' };
    const { id } = await test.owner.call(own.apply, { params: live, body });
    const release = await eventually(async () => {
      const now = await test.owner.call(own.release, { params: { ...live, release: id } });
      return !['running', 'returning'].includes(now.state) && now;
    });
    expect(release).toMatchObject({ state: 'done', from: `${place.app}/dev` });
    const { setup } = await test.owner.call(own.read, { params: live });
    expect(setup).toMatchObject({ collections: (await read()).collections, topics: (await read()).topics });
    const { items } = await test.owner.call(operations.audit.list, { query: { app: place.app, environment: 'live' } });
    expect(items.map(({ action }) => action)).toEqual(expect.arrayContaining(['setups.apply', 'collections.create', 'topics.put']));
  });
});

describe('a template', () => {
  it.each(['blank', 'shared-list', 'bookings', 'field-reports'] as const)(
    '%s is applied to a new environment, and holds',
    async (template) => {
      const { id } = await test.owner.call(own.apply, { params: place, body: { template, loseData: true } });
      expect(await ended(id)).toMatchObject({ problem: null, state: 'done', from: template });
      expect((await test.owner.call(own.compare, { params: place, body: { template } })).changes).toEqual([]);
    },
  );
});

describe('a sample of data', () => {
  it('fills empty collections with records that name nobody, and leaves others alone', async () => {
    const people = {
      fields: {
        note: { type: 'text' },
        name: { type: 'text', personal: true },
        hut: { type: 'reference', to: 'huts' },
        keeper: { type: 'reference', to: 'users' },
      },
    };
    const setup = { setup: 1, collections: { huts: HUTS, visits: people, notes: { fields: { text: { type: 'text' } } } } };
    await apply(setup);
    const live = { app: place.app, environment: 'live' };
    await test.owner.call(own.apply, { params: live, body: { from: place, only: ['collections'] } });
    await eventually(async () => (await test.owner.call(own.releases, { params: live, query: {} })).items[0]?.state === 'done');
    const keeper = await test.owner.call(operations.users.create, {
      params: place,
      body: { email: `odd${number}@hikers.example`, name: 'Odd Fell' },
    });
    await put('huts', 'fellgate', { name: 'Fellgate', bunks: 48, position: { type: 'Point', coordinates: [8.2, 61.2] } });
    await put('visits', 'v1', { note: 'Ask for Odd at odd@hikers.example', name: 'Odd Fell', hut: 'fellgate', keeper: keeper.id });
    await put('notes', 'n1', { text: 'warden@hikers.example' });
    await test.owner.call(operations.managedRecords.put, {
      params: { ...live, collection: 'notes', id: 'own' },
      body: { text: 'stays' } as never,
    });

    const { users, collections } = await test.owner.call(own.sample, { params: live, body: { from: `${place.app}/dev` } });
    expect(users).toBe(1);
    expect(collections).toEqual([
      { name: 'huts', stored: 1, rejected: 0, left: false },
      { name: 'notes', stored: 0, rejected: 0, left: true },
      { name: 'visits', stored: 1, rejected: 0, left: false },
    ]);
    const there = (collection: string, id: string) =>
      test.owner.call(operations.managedRecords.read, { params: { ...live, collection, id } });
    expect(await there('huts', 'fellgate')).toMatchObject({ name: 'Fellgate', bunks: 48, position: { coordinates: [8.2, 61.2] } });
    const visit = (await there('visits', 'v1')) as unknown as { [name: string]: string };
    expect(visit.hut).toBe('fellgate');
    expect(visit.keeper).not.toBe(keeper.id);
    expect(JSON.stringify(visit)).not.toMatch(/odd|Odd/);
    const { email } = await test.owner.call(operations.users.read, { params: { ...live, user: visit.keeper as string } });
    expect(email).toMatch(/@people\.example$/);
  });
});
