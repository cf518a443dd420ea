/** What goes wrong on a phone and around it: nothing that was acknowledged is lost, and the state says what it is. */
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { makeApp, PASSWORD, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { type Backing, connect, type Orchard } from '../src/index.js';
import { memoryBacking } from '../src/offline/memoryBacking.js';

let test: TestService;
let app: TestApp;
let answer: ((url: string) => Response | null) | null = null;
let orchard: Orchard;
let account: { id: string; email: string };
let n = 0;

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  const fields = [
    { name: 'text', type: 'text' },
    { name: 'kind', type: 'text' },
  ];
  const rules = { read: 'owner', create: 'owner', update: 'owner', delete: 'owner' };
  await test.owner.call(operations.collections.create, { params: app.dev.params, body: { name: 'notes', fields, rules } as never });
});
afterAll(() => test.stop());

async function start(store?: () => Promise<Backing>, now = Date.now): Promise<Orchard> {
  let kept: string | null = null;
  const storage = { read: () => kept, write: (value: string | null) => void (kept = value) };
  const fetching: typeof fetch = async (input, init) => answer?.(String(input)) ?? fetch(input, init);
  const opened = connect({ address: test.address, clientKey: app.dev.clientKey, introduce: false, storage, now, fetch: fetching });
  await opened.signIn(account.email, PASSWORD);
  await opened.sync.declare([{ collection: 'notes' }], {
    automatic: false,
    ...(store ? { store } : { store: async () => memoryBacking() }),
  });
  await opened.sync();
  return opened;
}
beforeEach(async () => {
  answer = null;
  account = await signUp(test, app.dev.clientKey, `hiker-${++n}`);
  orchard = await start();
});
/** A store that holds so many records. */
function roomFor(most: number): Backing {
  const held = new Set<string>();
  const memory = memoryBacking();
  return {
    ...memory,
    commit: async ({ rows = [], gone = [] }) => {
      const next = new Set([...held, ...rows.map(({ collection, id }) => `${collection}/${id}`)]);
      for (const { collection, id } of gone) next.delete(`${collection}/${id}`);
      if (next.size > most && next.size > held.size) throw Object.assign(new Error('There is no room.'), { name: 'QuotaExceededError' });
      held.clear();
      for (const key of next) held.add(key);
    },
  };
}
const notes = () => orchard.collection('notes');
const state = () => orchard.sync.state.current;

describe('a phone', () => {
  it('that has no room left keeps nothing half: the write is refused, and shown to nobody', async () => {
    let isFull = false;
    const full = Object.assign(new Error('There is no room.'), { name: 'QuotaExceededError' });
    orchard = await start(async () => {
      const memory = memoryBacking();
      return { ...memory, commit: (batch) => (isFull ? Promise.reject(full) : memory.commit(batch)) };
    });
    const { id } = await notes().create({ text: 'kept' });
    isFull = true;
    await expect(notes().create({ text: 'too much' })).rejects.toThrow('no room');
    await expect(notes().change(id, { text: 'changed' })).rejects.toThrow('no room');
    expect((await notes().list()).items).toMatchObject([{ text: 'kept' }]);
    await expect(orchard.sync()).rejects.toThrow('no room');
    expect(state().failing).toMatchObject({ why: 'storage' });
    isFull = false;
    expect(await orchard.sync()).toMatchObject({ taken: 1 });
  });

  it('that has room for some scopes keeps those that were declared first, and reads the others from the service', async () => {
    const params = { ...app.dev.params, collection: 'photos' };
    const actions = Array.from({ length: 60 }, (_, i) => ({ action: 'create' as const, record: { id: `photo-${i}`, text: 'large' } }));
    await test.owner.call(operations.collections.create, {
      params: app.dev.params,
      body: { name: 'photos', fields: [{ name: 'text', type: 'text' }], rules: { read: 'TRUE' } } as never,
    });
    await test.owner.call(operations.managedRecords.batch, { params, body: { actions } });
    await orchard.sync.declare([{ collection: 'notes' }, { collection: 'photos' }], { automatic: false, store: async () => roomFor(20) });
    const before = console.warn;
    console.warn = () => undefined;
    await notes().create({ text: 'mine, too' });
    expect(await orchard.sync()).toMatchObject({ taken: 1 });
    console.warn = before;
    expect(state().failing).toMatchObject({ why: 'storage', detail: 'There is no room on this device for photos. It keeps the rest.' });
    expect((await notes().list({}, { from: 'device' })).items).toMatchObject([{ text: 'mine, too' }]);
    expect((await orchard.collection('photos').list({ limit: '100' })).items).toHaveLength(60);
  });

  it('that may store nothing goes on in memory, and says so', async () => {
    const warned: string[] = [];
    const before = console.warn;
    console.warn = (text: string) => void warned.push(text);
    orchard = await start(() => Promise.reject(new Error('The browser is in a private window.')));
    console.warn = before;
    expect([state().kept, warned.join()]).toEqual([false, expect.stringContaining('private window')]);
    await notes().create({ text: 'in memory' });
    expect(await orchard.sync()).toMatchObject({ taken: 1 });
  });

  it('behind a network’s sign-in page keeps its changes, and does not take the page for an answer', async () => {
    await notes().create({ text: 'at the lodge' });
    answer = () => new Response('<html>Welcome to the lodge', { status: 200, headers: { 'content-type': 'text/html' } });
    await expect(orchard.sync()).rejects.toThrow('Welcome to the lodge');
    expect(state()).toMatchObject({ connected: false, pending: 1, failing: { why: 'unreachable' } });
    answer = null;
    expect(await orchard.sync()).toMatchObject({ taken: 1 });
  });

  it('whose answer is cut in the middle asks again, and takes nothing of it', async () => {
    await test.app('POST', '/data/notes', { key: app.dev.serverKey, body: { text: 'of the team', ownerId: account.id } });
    answer = (url) =>
      url.endsWith('/sync/pull')
        ? new Response('{"at":12,"more":false,"scopes":[{"scope":0,"rec', { status: 200, headers: { 'content-type': 'application/json' } })
        : null;
    await expect(orchard.sync()).rejects.toThrow();
    expect((await notes().list()).items).toEqual([]);
    answer = null;
    await orchard.sync();
    expect((await notes().list()).items).toMatchObject([{ text: 'of the team' }]);
  });

  it('whose clock is years off signs in, renews and syncs', async () => {
    const opened = await start(undefined, () => Date.now() + 3 * 365 * 86_400_000);
    await opened.collection('notes').create({ text: 'from the future' });
    expect(await opened.sync()).toMatchObject({ taken: 1 });
  });
});

describe('a user', () => {
  it('whose session was ended while offline keeps what was written until somebody signs in again', async () => {
    await notes().create({ text: 'written before' });
    await test.owner.call(operations.users.patch, { params: { ...app.dev.params, user: account.id }, body: { disabled: true } });
    await expect(orchard.sync()).rejects.toMatchObject({ status: 401 });
    expect(state()).toMatchObject({ pending: 1, failing: { why: 'signed-out' } });
    await test.owner.call(operations.users.patch, { params: { ...app.dev.params, user: account.id }, body: { disabled: false } });
    await orchard.signIn(account.email, PASSWORD);
    expect(await orchard.sync()).toMatchObject({ taken: 1 });
  });

  it('whose account was deleted hears so, and loses nothing without being asked', async () => {
    await notes().create({ text: 'still here' });
    await test.owner.call(operations.users.remove, { params: { ...app.dev.params, user: account.id } });
    await expect(orchard.sync()).rejects.toMatchObject({ status: 401 });
    expect((await notes().list()).items).toMatchObject([{ text: 'still here' }]);
    await expect(orchard.signOut()).rejects.toThrow('1 changes on this device');
  });
});

describe('a collection', () => {
  const change = (body: object) =>
    test.owner.call(operations.collections.change, { params: { ...app.dev.params, collection: 'notes' }, query: {}, body: body as never });

  it('that lost a field meanwhile refuses the change by name, and takes it when it was mended', async () => {
    await notes().create({ text: 'x', kind: 'old' });
    await change({ change: 'rename', name: 'kind', to: 'sort' });
    await test.owner.call(operations.environments.patch, { params: app.dev.params, body: { mode: 'closed' } });
    expect(await orchard.sync()).toMatchObject({ refused: 1 });
    const [refused] = orchard.sync.pending();
    expect(refused?.problem?.detail).toContain('`notes` has no field `kind`');
    await orchard.sync.discard(refused?.id as string);
    await notes().create({ text: 'x', sort: 'new' });
    expect(await orchard.sync()).toMatchObject({ taken: 1 });
    await test.owner.call(operations.environments.patch, { params: app.dev.params, body: { mode: 'open' } });
    await change({ change: 'rename', name: 'sort', to: 'kind' });
    await orchard.sync();
    expect((await notes().list()).items).toMatchObject([{ text: 'x', kind: 'new' }]);
  });

  it('that is gone is told, while others go on', async () => {
    await orchard.sync.declare([{ collection: 'nowhere' }, { collection: 'notes' }], {
      automatic: false,
      store: async () => memoryBacking(),
    });
    await notes().create({ text: 'goes on' });
    expect(await orchard.sync()).toMatchObject({ taken: 1 });
    expect(state().failing).toMatchObject({ why: 'refused', detail: expect.stringContaining('nowhere') });
  });
});
