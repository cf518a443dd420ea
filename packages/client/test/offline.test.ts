/** An app that keeps records on the device: reads and writes there, and comes up to date with a real service. */
import { mkdtempSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { ChangesWaiting, connect, type Orchard, type Scope, type SyncOptions, Unreachable } from '../src/index.js';
import { fileStorage, fileStore } from '../src/node.js';

let test: TestService;
let app: TestApp;
let warden: { id: string; token: string };
const ACCOUNT = { email: 'runa@hikers.example', password: 'ridge-and-river' };
const SCOPES: Scope[] = [{ collection: 'bookings', bring: ['hut'], indexes: ['state'] }];

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  [warden] = await Promise.all([signUp(test, app.dev.clientKey, 'warden'), signUp(test, app.dev.clientKey, 'runa')]);
  const make = (name: string, fields: object[], rules: object) =>
    test.owner.call(operations.collections.create, { params: app.dev.params, body: { name, fields, rules } as never });
  await make(
    'huts',
    [
      { name: 'name', type: 'text' },
      { name: 'region', type: 'text' },
    ],
    { read: 'TRUE', create: 'signed-in', update: 'signed-in', delete: 'signed-in' },
  );
  await make(
    'bookings',
    [
      { name: 'hut', type: 'reference', to: 'huts' },
      { name: 'nights', type: 'integer', min: 1, max: 30 },
      { name: 'party', type: 'integer' },
      { name: 'state', type: 'choice', choices: ['asked', 'confirmed', 'cancelled'], default: 'asked' },
      { name: 'note', type: 'text' },
      { name: 'arrives', type: 'date' },
      { name: 'tags', type: 'list', merge: 'union' },
    ],
    {
      read: "ownerId = me('id') OR party > 10 OR A_CONTAINS(me('roles'), ('rescuer'))",
      create: 'signed-in',
      update: 'signed-in',
      delete: 'signed-in',
    },
  );
});
afterAll(() => test.stop());

/** A phone: what it keeps survives a restart, and its line can be cut. */
class Phone {
  readonly directory = mkdtempSync(join(tmpdir(), 'orchard-phone-'));
  online = true;
  /** Lets a call through, and loses its answer. */
  losesAnswers = false;
  calls: string[] = [];
  orchard!: Orchard;

  async start(options: SyncOptions = {}, scopes = SCOPES): Promise<this> {
    this.orchard = connect({
      address: test.address,
      clientKey: app.dev.clientKey,
      storage: fileStorage(join(this.directory, 'session.json')),
      introduce: false,
      fetch: async (input, init) => {
        if (!this.online) throw new TypeError('fetch failed');
        this.calls.push(String(input).replace(test.address, ''));
        const reply = await fetch(input, init);
        if (this.losesAnswers) throw new TypeError('fetch failed');
        return reply;
      },
    });
    if (!(await this.orchard.user.current))
      await this.orchard.signIn(ACCOUNT.email, ACCOUNT.password).catch((error) => (this.online ? Promise.reject(error) : undefined));
    await this.orchard.sync.declare(scopes, { automatic: false, store: fileStore(this.directory), ...options });
    return this;
  }
  get bookings() {
    return this.orchard.collection('bookings');
  }
  async cut<T>(work: () => Promise<T>): Promise<T> {
    this.online = false;
    try {
      return await work();
    } finally {
      this.online = true;
    }
  }
}
const asWarden = (method: string, path: string, body?: object) =>
  test.app(method, `/data/${path}`, { key: app.dev.clientKey, token: warden.token, ...(body ? { body } : {}) });
const hutNamed = async (name: string) => (await asWarden('POST', 'huts', { name, region: 'north' })).body.id as string;
const texts = async (phone: Phone, filter?: string) =>
  (await phone.bookings.list({ ...(filter ? { filter } : {}), sort: 'note', limit: '1000' })).items.map(({ note }) => note);

let phone: Phone;
beforeEach(async () => {
  phone = await new Phone().start();
});

describe('an app without a signal', () => {
  it('reads what it has, writes at once, and brings it when there is one', async () => {
    const hut = await hutNamed('Cold Tarn');
    await phone.bookings.create({ hut, nights: 2, note: 'kept' });
    await phone.orchard.sync();
    await phone.cut(async () => {
      const booking = await phone.bookings.create({ hut, nights: 3, note: 'made offline', party: 2 });
      await phone.bookings.change(booking.id, { party: 4 });
      expect(await phone.bookings.read(booking.id)).toMatchObject({ note: 'made offline', party: 4, state: 'asked', version: 0 });
      expect(await texts(phone, "hut.name = 'Cold Tarn' AND nights >= 2")).toEqual(['kept', 'made offline']);
      await expect(phone.orchard.sync()).rejects.toBeInstanceOf(Unreachable);
      expect(phone.orchard.sync.state.current).toMatchObject({ connected: false, pending: 1, failing: { why: 'unreachable' } });
    });
    expect(await phone.orchard.sync()).toMatchObject({ taken: 1, refused: 0 });
    const { items } = await phone.bookings.list({ filter: "note = 'made offline'" }, { from: 'service' });
    expect(items).toMatchObject([{ party: 4, version: 1, state: 'asked' }]);
    expect(await phone.bookings.read(items[0]?.id as string)).toEqual(items[0]);
    expect(phone.orchard.sync.state.current).toMatchObject({ connected: true, pending: 0, failing: null });
  });

  it('has it all after a restart, and what it refers to', async () => {
    const hut = await hutNamed('Windgap');
    await phone.bookings.create({ hut, nights: 1, note: 'before the restart' });
    await phone.orchard.sync();
    const again = new Phone();
    Object.assign(again, { directory: phone.directory, online: false });
    await again.start();
    const { items } = await again.bookings.list({ filter: "note = 'before the restart'", include: 'hut' });
    expect(items).toMatchObject([{ _included: { hut: { name: 'Windgap' } } }]);
  });

  it('gets what others changed, and loses what it may not read any more', async () => {
    const { body: shared } = await asWarden('POST', 'bookings', { nights: 1, party: 12, note: 'a large party' });
    await phone.orchard.sync();
    expect(await texts(phone, 'party > 10')).toContain('a large party');
    await asWarden('PATCH', `bookings/${shared.id}`, { note: 'a larger party', party: 20 });
    await phone.orchard.sync();
    expect((await phone.bookings.read(shared.id)).note).toBe('a larger party');
    await asWarden('PATCH', `bookings/${shared.id}`, { party: 3 });
    expect(await phone.orchard.sync()).toMatchObject({ gone: 1 });
    await expect(phone.bookings.read(shared.id)).rejects.toMatchObject({ status: 404 });
  });

  it('finds what a change of roles takes away, which no change of a record tells', async () => {
    const { body: secret } = await asWarden('POST', 'bookings', { nights: 1, party: 1, note: 'of the warden' });
    const roles = async (given: string[]) =>
      test.owner.call(operations.users.patch, {
        params: { ...app.dev.params, user: phone.orchard.user.current?.id as string },
        body: { roles: given },
      });
    await roles(['rescuer']);
    await phone.orchard.me();
    await phone.orchard.sync();
    expect((await phone.bookings.read(secret.id)).note).toBe('of the warden');
    await roles([]);
    await phone.orchard.me();
    expect((await phone.orchard.sync()).gone).toBeGreaterThan(0);
    await expect(phone.bookings.read(secret.id)).rejects.toMatchObject({ status: 404 });
  });

  it('brings every change once, though answers are lost on the way', async () => {
    const booking = await phone.bookings.create({ nights: 2, party: 5, note: 'counted' });
    await phone.orchard.sync();
    await phone.bookings.change(booking.id, { _add: { party: -1 } });
    phone.losesAnswers = true;
    await expect(phone.orchard.sync()).rejects.toBeInstanceOf(Unreachable);
    phone.losesAnswers = false;
    await phone.bookings.change(booking.id, { _add: { party: -2 } });
    await phone.orchard.sync();
    expect(await phone.bookings.read(booking.id, { from: 'service' })).toMatchObject({ party: 2 });
    expect(await phone.bookings.read(booking.id)).toMatchObject({ party: 2 });
  });
});

describe('a change that two sides made', () => {
  it('stands from both where fields differ; the same field is a conflict that stays listed until it is settled', async () => {
    const { id } = await phone.bookings.create({ nights: 2, note: 'first', tags: ['a'] });
    await phone.orchard.sync();
    await asWarden('PATCH', `bookings/${id}`, { note: 'by the warden', state: 'confirmed', tags: ['a', 'w'], party: 11 });
    await phone.bookings.change(id, { note: 'by me', nights: 4, tags: ['a', 'm'] });
    expect(await phone.orchard.sync()).toMatchObject({ taken: 1, conflicts: 2 });
    expect(await phone.bookings.read(id)).toMatchObject({ note: 'by the warden', nights: 4, state: 'confirmed', tags: ['a', 'w', 'm'] });
    const conflict = phone.orchard.sync.conflicts().find(({ field }) => field === 'note');
    expect(conflict).toMatchObject({
      collection: 'bookings',
      record: id,
      device: 'by me',
      service: 'by the warden',
      kept: 'by the warden',
    });
    await phone.orchard.sync.settle(conflict?.id as string, { value: 'by me' });
    await phone.orchard.sync();
    expect((await phone.bookings.read(id, { from: 'service' })).note).toBe('by me');
    expect(phone.orchard.sync.conflicts().map(({ field }) => field)).toEqual(['tags']);
  });

  it('may be settled by a function of the app', async () => {
    const own = await new Phone().start({
      onConflict: ({ field, device, service }) => (field === 'note' ? `${service} / ${device}` : undefined),
    });
    const { id } = await own.bookings.create({ nights: 2, note: 'x' });
    await own.orchard.sync();
    await asWarden('PATCH', `bookings/${id}`, { note: 'theirs' });
    await own.bookings.change(id, { note: 'mine' });
    await own.orchard.sync();
    await own.orchard.sync();
    expect((await own.bookings.read(id, { from: 'service' })).note).toBe('theirs / mine');
    expect(own.orchard.sync.conflicts()).toEqual([]);
  });
});

describe('a change that the service refuses', () => {
  it('is told with its problem, and the device shows the truth; it can be mended, with what depends on it', async () => {
    const hut = await hutNamed('Stonefold');
    const booking = await phone.bookings.create({ hut, nights: 40, note: 'too long' });
    await phone.bookings.change(booking.id, { note: 'still too long' });
    expect(await phone.orchard.sync()).toMatchObject({ taken: 0, refused: 1 });
    await expect(phone.bookings.read(booking.id)).rejects.toMatchObject({ status: 404 });
    const [refused] = phone.orchard.sync.pending();
    expect(refused).toMatchObject({ state: 'refused', problem: { detail: expect.stringContaining('must be at most 30') } });
    await phone.orchard.sync.mend(refused?.id as string, { nights: 4 });
    expect(await phone.orchard.sync()).toMatchObject({ taken: 1 });
    expect(await phone.bookings.read(booking.id)).toMatchObject({ nights: 4, note: 'still too long' });
    await phone.bookings.change(booking.id, { nights: 90 });
    await phone.orchard.sync();
    expect(await phone.bookings.read(booking.id)).toMatchObject({ nights: 4 });
    await phone.orchard.sync.discard(phone.orchard.sync.pending()[0]?.id as string);
    expect(phone.orchard.sync.state.current).toMatchObject({ refused: 0, pending: 0 });
  });
});

describe('live lists', () => {
  it('tell of local writes within the same moment, and of what the service sends', async () => {
    const live = phone.bookings.live({ filter: "state = 'confirmed' AND note = 'live'" });
    const seen: number[] = [];
    const stop = live.subscribe(({ items }) => seen.push(items.length));
    const { id } = await phone.bookings.create({ nights: 1, state: 'confirmed', note: 'live' });
    await eventually(() => seen.at(-1) === 1);
    await phone.orchard.sync();
    await asWarden('PATCH', `bookings/${id}`, { state: 'cancelled', party: 11 });
    await phone.orchard.sync();
    await eventually(() => seen.at(-1) === 0);
    stop();
  });
});

describe('signing out', () => {
  it('asks while changes wait, and wipes what was kept of the user', async () => {
    await phone.bookings.create({ nights: 1, note: 'not sent' });
    await expect(phone.orchard.signOut()).rejects.toBeInstanceOf(ChangesWaiting);
    expect(phone.orchard.user.current).not.toBeNull();
    await phone.orchard.signOut({ pending: 'discard' });
    expect(phone.orchard.user.current).toBeNull();
    const kept = readdirSync(phone.directory).filter((name) => name.endsWith('.ndjson'));
    expect(kept.map((name) => readFileSync(join(phone.directory, name), 'utf8')).join('')).not.toContain('not sent');
  });
});

describe('a local copy', () => {
  const storeOf = (one: Phone) =>
    join(one.directory, readdirSync(one.directory).find((name) => name.endsWith('.ndjson') && !name.includes('nobody')) as string);
  const restarted = async (warned: string[] = []) => {
    const before = console.warn;
    console.warn = (text: string) => void warned.push(text);
    try {
      return await Object.assign(new Phone(), { directory: phone.directory }).start();
    } finally {
      console.warn = before;
    }
  };

  it('loses nothing acknowledged to a line that a crash cut, and drops the line', async () => {
    await phone.bookings.create({ nights: 1, note: 'acknowledged' });
    writeFileSync(storeOf(phone), `${readFileSync(storeOf(phone), 'utf8')}{"pending":[{"id":"half`);
    const again = await restarted();
    expect(await texts(again)).toContain('acknowledged');
    await again.orchard.sync();
    expect(await texts(again)).toContain('acknowledged');
  });

  it('of a newer library is left as it is', async () => {
    await phone.orchard.sync();
    const path = storeOf(phone);
    writeFileSync(path, `${JSON.stringify({ facts: { format: 99 } })}\n`);
    const again = await restarted();
    expect(again.orchard.sync.state.current).toMatchObject({ kept: false, failing: { why: 'newer-store' } });
    await again.orchard.sync();
    expect(readFileSync(path, 'utf8')).toContain('99');
  });

  it('that was spoiled is filled anew, and changes that wait are saved first', async () => {
    await phone.orchard.sync();
    await phone.bookings.create({ nights: 1, note: 'waits' });
    writeFileSync(
      storeOf(phone),
      `${readFileSync(storeOf(phone), 'utf8')}${JSON.stringify({ rows: [{ collection: 'bookings', id: 'bad' }] })}\n`,
    );
    const warned: string[] = [];
    const again = await restarted(warned);
    expect(warned.join()).toContain('It is filled anew');
    expect(await again.orchard.sync()).toMatchObject({ taken: 1 });
    expect(await texts(again)).toContain('waits');
  });
});
