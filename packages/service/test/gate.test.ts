/** What a caller may learn: the same by every way, and nothing of what a rule hides. */
import { operations } from '@orchard/contract';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { eventually, listenTo, makeApp, type Place, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
type Item = { id: string; note?: string; _included: { hut: { code?: string } | null } };
type Person = Awaited<ReturnType<typeof signUp>>;
const people = {} as Record<'dev' | 'live', { runa: Person; kenji: Person }>;

const HUTS = [
  { id: 'fellgate', name: 'Fellgate', region: 'north', secret: 'amber' },
  { id: 'larkspur', name: 'Larkspur', region: 'south', secret: 'birch' },
  { id: 'juniper', name: 'Juniper', region: 'north', secret: 'cedar' },
];
const BOOKINGS = ['fellgate', 'fellgate', 'larkspur', 'juniper', null].map((hut, i) => ({ id: `b${i}`, hut, nights: i }));

async function fill({ params, serverKey }: Place, who: { runa: Person; kenji: Person }): Promise<void> {
  const text = (name: string) => ({ name, type: 'text' as const });
  await test.owner.call(operations.collections.create, {
    params,
    body: {
      name: 'huts',
      fields: [
        text('name'),
        text('region'),
        text('secret'),
        { ...text('code'), seenBy: "warden = me('id')" },
        { name: 'warden', type: 'reference', to: 'users' },
      ],
    },
  });
  await test.owner.call(operations.collections.create, {
    params,
    body: {
      name: 'bookings',
      fields: [
        { name: 'hut', type: 'reference', to: 'huts' },
        { name: 'nights', type: 'integer' },
        { name: 'note', type: 'text', seenBy: "ownerId = me('id') OR hut.region = 'north'" },
      ],
    },
  });
  const put = (path: string, body: object) => test.app('PUT', `/data/${path}`, { key: serverKey, body });
  const owners = [who.runa.id, who.kenji.id, null];
  for (const [i, hut] of HUTS.entries())
    await put(`huts/${hut.id}`, { ...hut, code: `code ${hut.id}`, warden: who.kenji.id, ownerId: owners[i % 3] });
  for (const [i, booking] of BOOKINGS.entries())
    await put(`bookings/${booking.id}`, { ...booking, note: `note ${i}`, ownerId: owners[(i + 1) % 3] });
}

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  for (const name of ['dev', 'live'] as const) {
    people[name] = { runa: await signUp(test, app[name].clientKey, 'runa'), kenji: await signUp(test, app[name].clientKey, 'kenji') };
    await fill(app[name], people[name]);
  }
});
afterAll(() => test.stop());

const setRules = (environment: 'dev' | 'live', collection: string, rules: Record<string, string>) =>
  test.owner.call(operations.collections.patch, { params: { ...app[environment].params, collection }, body: { rules } });
const query = (values: Record<string, string>) => `?${new URLSearchParams(values)}`;
const as = (environment: 'dev' | 'live', user?: Person) => ({
  key: app[environment].clientKey,
  ...(user ? { token: user.token } : {}),
});
/** A change to every booking, so that a live stream looks at each. */
async function touchAll(): Promise<void> {
  for (const { id, nights } of BOOKINGS)
    await test.app('PATCH', `/data/bookings/${id}`, { key: app.dev.serverKey, body: { nights: nights + 100 } });
  for (const { id, nights } of BOOKINGS) await test.app('PATCH', `/data/bookings/${id}`, { key: app.dev.serverKey, body: { nights } });
}
async function seenLive(who: { key: string; token?: string }, filter: string): Promise<string[]> {
  const stream = await listenTo(test.address, `bookings${query({ filter })}`, who);
  await stream.next('ready');
  await touchAll();
  await test.app('PUT', '/data/bookings/end', { key: app.dev.serverKey, body: {} });
  await test.app('DELETE', '/data/bookings/end', { key: app.dev.serverKey });
  // The feed is in order: when a trusted stream has the end, this one has been offered all before it.
  const trusted = await listenTo(test.address, 'bookings', { key: app.dev.serverKey }, stream.events.at(-1)?.id);
  await eventually(() => trusted.of('left').length > 0);
  await new Promise((resolve) => setTimeout(resolve, 60));
  trusted.stop();
  stream.stop();
  const ids = stream.events.flatMap(({ data }) => (data as { record?: { id: string } } | null)?.record?.id ?? []);
  return [...new Set(ids)].filter((id) => id !== 'end').sort();
}

const RULES = [
  'everyone',
  'signed-in',
  'owner',
  "region = 'north'",
  "ownerId = me('id') OR region = 'south'",
  "warden = me('id')",
  "warden.name = 'kenji' AND region = 'north'",
];
const FILTERS = [
  "hut.secret LIKE 'a%'",
  "NOT (hut.secret LIKE 'a%')",
  'hut.name IS NULL',
  "hut.warden.email LIKE 'k%'",
  "hut.warden.name = 'kenji'",
  "hut.region = 'north' AND nights > -1",
  "hut = 'fellgate' OR hut.name = 'Juniper'",
  "note LIKE 'note%'",
  'note IS NULL',
  "hut.code LIKE 'code%'",
];

describe('whatever a caller hands in', () => {
  it('finds the same records in a list, a live stream and a summary, and nothing that an include does not show', async () => {
    const callers = fc.constantFrom(undefined, people.dev.runa, people.dev.kenji);
    const one = fc.record({ rule: fc.constantFrom(...RULES), filter: fc.constantFrom(...FILTERS), caller: callers });
    await fc.assert(
      fc.asyncProperty(one, async ({ rule, filter, caller }) => {
        await setRules('dev', 'huts', { read: rule });
        await setRules('dev', 'bookings', { read: 'TRUE' });
        const who = as('dev', caller);
        const list = await test.app('GET', `/data/bookings${query({ filter, include: 'hut' })}`, who);
        const listed = (list.body.items as { id: string }[]).map(({ id }) => id).sort();
        const summary = await test.app('GET', `/summaries/bookings${query({ filter })}`, who);
        expect(summary.body.groups).toEqual([{ count: listed.length }]);
        expect(await seenLive(who, filter)).toEqual(listed);
        // Evaluated on what the includes show, with the warden shown to himself alone.
        const all = await test.app('GET', `/data/bookings${query({ include: 'hut.warden' })}`, who);
        const shown = all.body.items.map((item: { id: string; _included: { hut: Record<string, unknown> | null } }) => item);
        const secretSeen = shown.filter((item: { _included: { hut: { secret?: string } | null } }) => item._included.hut?.secret);
        const readable = await test.app('GET', '/data/huts', who);
        const readableIds = readable.status === 200 ? readable.body.items.map(({ id }: { id: string }) => id) : [];
        expect(secretSeen.every((item: { hut: string }) => readableIds.includes(item.hut))).toBe(true);
        // A filter finds by a field with a rule of its own only where the field is shown.
        const showing = (test: (item: Item) => boolean) =>
          all.body.items
            .filter(test)
            .map(({ id }: Item) => id)
            .sort();
        if (filter === "note LIKE 'note%'") expect(listed).toEqual(showing(({ note }) => note !== undefined));
        if (filter === "hut.code LIKE 'code%'") expect(listed).toEqual(showing(({ _included }) => Boolean(_included.hut?.code)));
        if (filter.startsWith('hut.secret LIKE'))
          expect(listed).toEqual(
            shown
              .filter((item: { _included: { hut: { secret: string } | null } }) => item._included.hut?.secret.startsWith('a'))
              .map(({ id }: { id: string }) => id)
              .sort(),
          );
      }),
      { numRuns: 25, seed: 11 },
    );
  });

  it("does not keep the team's own rules from following references to what the caller may not read", async () => {
    await setRules('dev', 'huts', { read: 'nobody' });
    await setRules('dev', 'bookings', { read: "hut.warden = me('id')" });
    const { kenji, runa } = people.dev;
    expect((await test.app('GET', '/data/bookings', as('dev', kenji))).body.items).toHaveLength(4);
    expect(await seenLive(as('dev', kenji), 'nights > -1')).toEqual(['b0', 'b1', 'b2', 'b3']);
    expect((await test.app('GET', '/data/bookings', as('dev', runa))).body.items).toEqual([]);
    await setRules('dev', 'huts', { read: 'TRUE' });
  });
});

describe('a record that may not be read', () => {
  beforeAll(async () => {
    await setRules('live', 'huts', { read: 'owner', create: 'signed-in', update: 'owner', delete: 'owner' });
    await setRules('live', 'bookings', { read: 'owner', create: 'signed-in', update: 'owner', delete: 'owner' });
  });
  /** The answer without what differs between any two calls. */
  const told = ({ status, body }: { status: number; body: Record<string, unknown> | undefined }, id: string) => {
    const { request: _, ...rest } = body ?? {};
    return JSON.stringify([status, rest]).replaceAll(id, '<id>');
  };

  it.each([
    ['GET', undefined, {}],
    ['PATCH', { name: 'x' }, {}],
    ['PATCH', { name: 'x' }, { 'if-match': '"7"' }],
    ['PUT', { name: 'x' }, { 'if-match': '"7"' }],
    ['DELETE', undefined, {}],
    ['DELETE', undefined, { 'if-match': '"7"' }],
  ])('is answered in live to %s %o %o as one that is not there', async (method, body, headers) => {
    for (const user of [undefined, people.live.kenji]) {
      const ask = (id: string) => test.app(method, `/data/huts/${id}`, { ...as('live', user), headers, ...(body ? { body } : {}) });
      const hidden = await ask('fellgate');
      expect(hidden.status).toBe(404);
      expect(told(hidden, 'fellgate')).toBe(told(await ask('nowhere'), 'nowhere'));
    }
  });

  it('cannot be referred to in live, in the words for one that is not there', async () => {
    const refer = (hut: string) => test.app('POST', '/data/bookings', { ...as('live', people.live.kenji), body: { hut } });
    const hidden = await refer('fellgate');
    expect(hidden.status).toBe(422);
    expect(told(hidden, 'fellgate')).toBe(told(await refer('nowhere'), 'nowhere'));
    expect((await refer('larkspur')).status).toBe(201);
  });

  it('is absent in a live stream of it', async () => {
    const stream = await listenTo(test.address, 'huts/fellgate', as('live', people.live.kenji));
    expect((await stream.next('absent')).data).toEqual({ id: 'fellgate' });
    stream.stop();
  });

  it('keeps its id taken, without telling more', async () => {
    const taken = await test.app('PUT', '/data/huts/fellgate', { ...as('live', people.live.kenji), body: { name: 'mine' } });
    expect(taken).toMatchObject({ status: 409, body: { type: '/docs/problems/already-exists' } });
  });

  it('is refused in dev with the rule and the reason', async () => {
    await setRules('dev', 'huts', { read: 'owner' });
    const refused = await test.app('GET', '/data/huts/fellgate', as('dev', people.dev.kenji));
    expect(refused).toMatchObject({ status: 403, body: { detail: expect.stringContaining("ownerId = me('id')") } });
    await setRules('dev', 'huts', { read: 'TRUE' });
  });

  it('shows nothing of itself to somebody who may change but not read it', async () => {
    await setRules('live', 'huts', { read: 'nobody', update: 'TRUE' });
    const changed = await test.app('PATCH', '/data/huts/fellgate', { ...as('live', people.live.kenji), body: { name: 'Fellgate' } });
    expect(changed.status).toBe(200);
    expect(Object.keys(changed.body).sort()).toEqual(['createdAt', 'id', 'name', 'ownerId', 'updatedAt', 'version']);
    await setRules('live', 'huts', { read: 'owner', update: 'owner' });
  });
});

describe('a refusal in live', () => {
  it('names the rule and what to do to the app, and all of it to the team at the recorded request', async () => {
    await setRules('live', 'bookings', { create: "hut.region = 'moon'" });
    const refused = await test.app('POST', '/data/bookings', { ...as('live', people.live.kenji), body: { nights: 1 } });
    expect(refused.status).toBe(403);
    expect(refused.body.detail).toBe(
      'The create rule of `bookings` refuses this user. The team of the app can see the reason at the request with this id.',
    );
    const recorded = await eventually(() =>
      test.owner.call(operations.telemetry.request, { params: { ...app.live.params, request: refused.body.request } }).catch(() => null),
    );
    expect(JSON.stringify(recorded)).toContain("hut.region = 'moon'");
    const anybody = await test.app('POST', '/data/bookings', { ...as('live'), body: { nights: 1 } });
    expect(anybody.body.detail).toContain('nobody is signed in. Sign in');
  });
});
