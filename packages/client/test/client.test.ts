import { libraryCall, operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { connect, type Options, Problem, type Storage } from '../src/index.js';

let test: TestService;
let app: TestApp;
const ACCOUNT = { email: 'wren@hikers.example', password: 'over-the-col', name: 'Wren' };
const kept = (): Storage & { value: string | null } => ({
  value: null,
  read() {
    return this.value;
  },
  write(value) {
    this.value = value;
  },
});
const orchard = (options: Partial<Options> = {}) =>
  connect({ address: test.address, clientKey: app.dev.clientKey, storage: kept(), ...options });

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  await orchard().signUp(ACCOUNT);
});
afterAll(() => test.stop());

/** A session whose access token is about to run out, as the storage keeps it. */
async function agedSession(): Promise<Storage & { value: string | null }> {
  const storage = kept();
  await orchard({ storage }).signIn(ACCOUNT.email, ACCOUNT.password);
  storage.value = JSON.stringify({
    ...JSON.parse(storage.value as string),
    accessTokenExpiresAt: new Date(Date.now() + 1000).toISOString(),
  });
  return storage;
}

describe('an app with the client library', () => {
  it('stores, reads, lists, changes and removes records', async () => {
    const me = orchard();
    await me.signIn(ACCOUNT.email, ACCOUNT.password);
    const notes = me.collection('notes');
    const made = await notes.create({ text: 'Snow on the col', altitudeM: 1610 });
    expect(await notes.read(made.id)).toEqual(made);
    expect((await notes.list({ filter: 'altitudeM > 1000' })).items).toEqual([made]);
    expect(await notes.change(made.id, { text: 'Thawing' }, 1)).toMatchObject({ text: 'Thawing', version: 2 });
    await expect(notes.change(made.id, { text: 'Gone' }, 1)).rejects.toMatchObject({
      problem: 'version-conflict',
      extras: { currentVersion: 2 },
    });
    expect(await notes.put('summary', { text: 'All well' })).toMatchObject({ id: 'summary', version: 1 });
    await notes.remove(made.id, 2);
    await expect(notes.read(made.id)).rejects.toBeInstanceOf(Problem);
  });

  it('is called as the console and the documents show it', async () => {
    const me = orchard();
    await me.signIn(ACCOUNT.email, ACCOUNT.password);
    const run = (line: string | undefined) => new Function('orchard', `return (async () => (${line?.replace(/;$/, '')}))()`)(me);
    const { records, users, channels } = operations;
    const note = { collection: 'notes', id: 'shown' };
    await run(libraryCall(records.put, { params: note, body: { text: 'As "shown"' } }));
    await run(libraryCall(records.patch, { params: note, body: { altitudeM: 900 } }));
    expect(await run(libraryCall(records.read, { params: note }))).toMatchObject({ text: 'As "shown"', altitudeM: 900 });
    const query = { filter: "id = 'shown'" };
    expect((await run(libraryCall(records.list, { params: { collection: 'notes' }, query }))).items).toHaveLength(1);
    const summary = await run(libraryCall(records.summary, { params: { collection: 'notes' }, query: { ...query, measure: 'count' } }));
    expect(summary.groups).toEqual([{ count: 1 }]);
    const stop = await run(libraryCall(records.live, { params: { collection: 'notes' }, query }));
    stop();
    await run(libraryCall(records.remove, { params: note }));
    expect((await run(libraryCall(users.readMe, {}))).email).toBe(ACCOUNT.email);
    await me.channel('huts').publish({ fire: 'lit' });
    expect(await run(libraryCall(channels.history, { params: { channel: 'huts' } }))).toHaveLength(1);
    expect(await run(libraryCall(channels.presence, { params: { channel: 'huts' } }))).toMatchObject({ listening: 0 });
  });

  it('stays signed in over a restart, and is out after signing out', async () => {
    const storage = kept();
    await orchard({ storage }).signIn(ACCOUNT.email, ACCOUNT.password);
    const restarted = orchard({ storage });
    expect((await restarted.me()).email).toBe(ACCOUNT.email);
    await restarted.signOut();
    expect(storage.value).toBeNull();
    await expect(restarted.me()).rejects.toMatchObject({ problem: 'token-missing' });
  });

  it('renews a token that runs out, once for all calls at the same time', async () => {
    const storage = await agedSession();
    let renewals = 0;
    const counting: typeof fetch = (input, init) => {
      if (String(input).endsWith('/sessions')) renewals++;
      return fetch(input, init);
    };
    const me = orchard({ storage, fetch: counting });
    const people = await Promise.all([me.me(), me.me(), me.me()]);
    expect(people.map(({ email }) => email)).toEqual(Array(3).fill(ACCOUNT.email));
    expect(renewals).toBe(1);
    expect((await me.me()).email).toBe(ACCOUNT.email);
  });

  it.each([
    ['at the same moment', async (one: () => Promise<unknown>, other: () => Promise<unknown>) => Promise.all([one(), other()])],
    ['one after the other', async (one: () => Promise<unknown>, other: () => Promise<unknown>) => [await one(), await other()]],
  ])('stays signed in in two tabs that renew %s', async (_when, both) => {
    const storage = await agedSession();
    const [one, other] = [orchard({ storage }), orchard({ storage })];
    const emails = await both(
      async () => (await one.me()).email,
      async () => (await other.me()).email,
    );
    expect(emails).toEqual([ACCOUNT.email, ACCOUNT.email]);
    expect((await orchard({ storage }).me()).email).toBe(ACCOUNT.email);
  });

  it('stays signed in when the answer to its renewal is lost on the way', async () => {
    const storage = await agedSession();
    let lost = 0;
    const losing: typeof fetch = async (input, init) => {
      const reply = await fetch(input, init);
      if (!String(input).endsWith('/sessions') || lost++ > 0) return reply;
      throw new TypeError('fetch failed');
    };
    const me = orchard({ storage, fetch: losing });
    expect((await me.me()).email).toBe(ACCOUNT.email);
  });

  it('keeps the secret of its device over restarts and sign-outs', async () => {
    const storage = kept();
    const me = orchard({ storage });
    await me.signIn(ACCOUNT.email, ACCOUNT.password);
    const registration = { platform: 'ios', appVersion: '1', os: 'iOS 19', locale: 'en', timeZone: 'UTC', permission: 'unasked' } as const;
    await me.registerDevice('tab-device-1', registration);
    await me.signOut();
    const restarted = orchard({ storage });
    expect((await restarted.registerDevice('tab-device-1', registration)).userId).toBeNull();
    await expect(orchard().registerDevice('tab-device-1', registration)).rejects.toMatchObject({ problem: 'access-refused' });
  });

  it('asks with a body where a filter is too long for an address', async () => {
    const me = orchard();
    await me.signIn(ACCOUNT.email, ACCOUNT.password);
    const notes = me.collection('long-notes'.replace('-', ''));
    await notes.create({ id: 'kept', text: 'x' });
    const filter = `text IN (${Array.from({ length: 900 }, (_, i) => `'${String(i).padStart(10, '0')}'`).join(', ')}, 'x')`;
    expect((await notes.list({ filter, limit: '5' })).items.map(({ id }) => id)).toEqual(['kept']);
    expect((await notes.summary({ filter })).groups).toEqual([{ count: 1 }]);
    const seen: string[] = [];
    const stop = notes.watch({ filter }, ({ event }) => seen.push(event));
    await eventually(() => seen.includes('ready'));
    await notes.change('kept', { note: 'changed' });
    await eventually(() => seen.includes('changed'));
    stop();
  });

  it('forgets a session that the service has ended', async () => {
    const storage = await agedSession();
    const { refreshToken } = JSON.parse(storage.value as string);
    const renew = async (token: string) =>
      (await test.app('POST', '/sessions', { key: app.dev.clientKey, body: { refreshToken: token } })).body.refreshToken as string;
    await renew(await renew(refreshToken));
    await expect(orchard({ storage }).me()).rejects.toMatchObject({ problem: 'token-missing' });
    expect(storage.value).toBeNull();
  });

  it('keeps its session when the service cannot be reached', async () => {
    const storage = await agedSession();
    const before = storage.value;
    await expect(orchard({ storage, fetch: () => Promise.reject(new TypeError('fetch failed')) }).me()).rejects.toThrow('fetch failed');
    expect(storage.value).toBe(before);
    expect((await orchard({ storage }).me()).email).toBe(ACCOUNT.email);
  });

  it('follows records as they change, over broken connections, until it stops', async () => {
    const me = orchard();
    await me.signIn(ACCOUNT.email, ACCOUNT.password);
    const plans = me.collection('plans');
    await plans.create({ id: 'col', day: 1 });
    const seen: string[] = [];
    let dropped: (() => void) | null = null;
    // A connection that breaks once, as on a ridge.
    const shaky: typeof fetch = async (input, init) => {
      const reply = await fetch(input, init);
      if (!String(input).includes('/live/') || dropped) return reply;
      const [kept, cut] = (reply.body as ReadableStream<Uint8Array>).tee();
      void cut.cancel();
      const broken = new TransformStream<Uint8Array, Uint8Array>({
        start: (controller) => {
          dropped = () => controller.error(new TypeError('network error'));
        },
      });
      return new Response(kept.pipeThrough(broken), { headers: reply.headers });
    };
    const walker = orchard({ fetch: shaky });
    await walker.signIn(ACCOUNT.email, ACCOUNT.password);
    const stop = walker.collection('plans').watch({ filter: 'day > 1' }, ({ event }) => seen.push(event));
    await eventually(() => seen.includes('ready'));
    await plans.change('col', { day: 2 });
    await eventually(() => seen.includes('entered'));
    (dropped as unknown as () => void)();
    await plans.change('col', { day: 3 });
    await eventually(() => seen.includes('changed'));
    stop();
    expect(seen.filter((event) => event !== 'ready')).toEqual(['entered', 'changed']);
    const refused = new Promise((resolve) => walker.collection('plans').watch({ filter: 'days > 1' }, () => undefined, resolve));
    expect(await refused).toMatchObject({ problem: 'malformed-filter', detail: expect.stringContaining('did you mean `day`') });
    expect(await plans.batch([{ action: 'delete', id: 'col' }])).toEqual([{ status: 204, id: 'col' }]);
    expect((await plans.summary({ measure: 'count' })).groups).toEqual([{ count: 0 }]);
  });

  it('registers its device', async () => {
    const me = orchard();
    expect(await me.pushKey()).toMatch(/^B[\w-]{86}$/);
    const device = {
      platform: 'web' as const,
      appVersion: '1.0',
      os: 'Debian 12',
      locale: 'en-GB',
      timeZone: 'Europe/London',
      permission: 'unasked' as const,
    };
    expect(await me.registerDevice('device-of-wren', device)).toMatchObject({ id: 'device-of-wren', reachable: false });
  });

  it('publishes and listens on a channel, and sees who is there', async () => {
    const me = orchard();
    await me.signIn(ACCOUNT.email, ACCOUNT.password);
    const ridge = me.channel('ridge');
    const heard: { event: string; data: unknown }[] = [];
    const stop = ridge.listen((event) => heard.push(event));
    await eventually(async () => (await ridge.presence()).listening === 1);
    await ridge.publish({ wind: 24 });
    expect((await eventually(() => heard.find(({ event }) => event === 'message')))?.data).toMatchObject({ data: { wind: 24 } });
    expect(await ridge.history()).toMatchObject([{ data: { wind: 24 } }]);
    stop();
    await eventually(async () => (await ridge.presence()).listening === 0);
    await expect(orchard().channel('ridge').history()).rejects.toMatchObject({ problem: 'access-refused' });
  });

  it('lets its device follow a topic, and tells what it received', async () => {
    const me = orchard();
    await me.signIn(ACCOUNT.email, ACCOUNT.password);
    const id = 'wren-phone-0001';
    await me.registerDevice(id, {
      platform: 'ios',
      appVersion: '1',
      os: 'iOS 19',
      locale: 'en-GB',
      timeZone: 'Europe/London',
      permission: 'denied',
    });
    await me.follow(id, 'ridge-weather');
    const { body: sent } = await test.app('POST', '/notifications', {
      key: app.dev.serverKey,
      body: { title: 'x', audience: { topics: { any: ['ridge-weather'] } } },
    });
    expect(sent.deliveries).toMatchObject({ total: 1, skipped: 1 });
    // What was never sent cannot have arrived, whatever a device says.
    await me.report(id, [{ notification: sent.id, event: 'opened' }]);
    const { body: after } = await test.app('GET', `/notifications/${sent.id}`, { key: app.dev.serverKey });
    expect(after.deliveries).toMatchObject({ skipped: 1, arrived: 0, opened: 0 });
    await me.unfollow(id, 'ridge-weather');
    const nobody = await test.app('POST', '/notifications', {
      key: app.dev.serverKey,
      body: { title: 'x', audience: { topics: { any: ['ridge-weather'] } } },
    });
    expect(nobody.body.type).toBe('/docs/problems/audience-empty');
  });
});

describe('events of a device', () => {
  const DEVICE = 'wren-phone-1';
  const registration = {
    platform: 'ios',
    appVersion: '2.5.0',
    os: 'iOS 19',
    locale: 'nb-NO',
    timeZone: 'Europe/Oslo',
    permission: 'granted',
  } as const;
  const arrived = async () =>
    (await test.owner.call(operations.events.latest, { params: app.dev.params, query: { device: DEVICE } })).items
      .map(({ name, userId }) => [name, userId !== null])
      .reverse();

  it('take only what the plan has, where an app is built with its types', async () => {
    type Events = { booking_sent: { nights?: number } };
    const planned = orchard({ storage: kept() }).events<Events>('nobody-typed', { onRefused: () => undefined });
    await planned.track('booking_sent', { nights: 2 });
    // @ts-expect-error a misspelt event does not compile
    await planned.track('bookingsent');
    // @ts-expect-error nor does a property of another type
    await planned.track('booking_sent', { nights: 'two' });
  });

  it('are kept over a restart and without a connection, and sent under the name of who was signed in', async () => {
    const storage = kept();
    let isAway = true;
    const fetchThrough: typeof fetch = (...call) =>
      isAway && String(call[0]).endsWith('/events') ? Promise.reject(new TypeError('fetch failed')) : fetch(...call);
    const before = orchard({ storage, fetch: fetchThrough });
    await before.registerDevice(DEVICE, registration);
    await before.events(DEVICE).track('open', { nights: 2 });
    await before.events(DEVICE).flush();
    expect(await arrived()).toEqual([]);
    expect(JSON.parse(storage.value as string).events).toMatchObject([{ name: 'open', properties: { nights: 2 } }]);
    isAway = false;
    const after = orchard({ storage, fetch: fetchThrough });
    const events = after.events(DEVICE);
    await events.track('search');
    await after.signIn(ACCOUNT.email, ACCOUNT.password);
    await events.track('book');
    await after.signOut();
    await events.track('open');
    await events.flush();
    expect(await arrived()).toEqual([
      ['open', false],
      ['search', false],
      ['book', true],
      ['open', false],
    ]);
    expect(JSON.parse(storage.value as string).events).toBeUndefined();
  });

  it('that the service does not take are told, and not sent again', async () => {
    const refused: string[] = [];
    const connected = orchard();
    const events = connected.events('nobody-phone', { onRefused: ({ name, problem }) => refused.push(`${name} ${problem}`) });
    await events.track('open');
    await events.flush();
    await events.flush();
    expect(refused).toEqual(['open device-unregistered']);
  });

  it('go by themselves once there are twenty', async () => {
    const connected = orchard();
    await connected.registerDevice('wren-phone-2', registration);
    for (let i = 0; i < 20; i++) await connected.events('wren-phone-2').track('tap');
    await eventually(async () => {
      const { items } = await test.owner.call(operations.events.latest, { params: app.dev.params, query: { device: 'wren-phone-2' } });
      return items.length === 20 ? true : null;
    });
  });
});
