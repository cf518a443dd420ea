/** Sync as a device sees it on the wire: filling, following, comparing, and bringing what was changed offline. */
import { randomUUID } from 'node:crypto';
import { type IncomingHttpHeaders, request } from 'node:http';
import { buffer } from 'node:stream/consumers';
import { gunzipSync } from 'node:zlib';
import { operations, type PushedChange, type SyncPulled, type SyncPushed, type SyncScope } from '@orchard/contract';
import { digestRanges } from '@orchard/core';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let runa: { id: string; token: string };
let warden: { id: string; token: string };

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  [runa, warden] = await Promise.all([signUp(test, app.dev.clientKey, 'runa'), signUp(test, app.dev.clientKey, 'warden')]);
  await setRoles(warden.id, ['warden']);
  await test.owner.call(operations.collections.create, {
    params: app.dev.params,
    body: {
      name: 'notes',
      fields: [
        { name: 'text', type: 'text' },
        { name: 'shared', type: 'boolean', default: true },
        { name: 'seats', type: 'integer', min: 0, merge: 'smaller' },
        { name: 'tags', type: 'list', merge: 'union' },
        { name: 'secret', type: 'text', hidden: true },
        { name: 'facts', type: 'object' },
      ],
      rules: {
        read: "shared = TRUE OR A_CONTAINS(me('roles'), ('warden')) OR ownerId = me('id')",
        create: 'signed-in',
        update: 'signed-in',
        delete: 'signed-in',
      },
    } as never,
  });
});
afterAll(() => test.stop());

const setRoles = (user: string, roles: string[]) =>
  test.owner.call(operations.users.patch, { params: { ...app.dev.params, user }, body: { roles } });
const ask = (who: { token: string }, path: string, body: object, headers: Record<string, string> = {}) =>
  test.app('POST', `/sync/${path}`, { key: app.dev.clientKey, token: who.token, body, headers });
const pull = async (who: { token: string }, scopes: SyncScope[], more: object = {}): Promise<SyncPulled> => {
  const { status, body, text } = await ask(who, 'pull', { scopes, ...more });
  expect(status, text).toBe(200);
  return body;
};
const push = async (who: { token: string }, changes: Omit<PushedChange, 'id'>[]): Promise<SyncPushed> => {
  const { status, body, text } = await ask(who, 'push', { changes: changes.map((change) => ({ id: randomUUID(), ...change })) });
  expect(status, text).toBe(200);
  return body;
};
const write = (who: { token: string }, method: string, path: string, body?: object) =>
  test.app(method, `/data/notes${path}`, { key: app.dev.clientKey, token: who.token, ...(body ? { body } : {}) });
const note = async (who: { token: string }, fields: object) =>
  (await write(who, 'POST', '', fields)).body as { id: string; version: number };
const create = (record: string, fields: object) => ({ collection: 'notes', action: 'create', record, fields }) as never;
const change = (record: { id: string; version: number }, fields: object, seen: object) =>
  ({ collection: 'notes', action: 'change', record: record.id, version: record.version, fields, seen }) as never;
/** Fills a scope to its end. */
async function filled(who: { token: string }, scope: SyncScope, limit = 1_000) {
  const records: { id: string }[] = [];
  let state: { at?: number; fill?: string } = {};
  for (;;) {
    const { scopes, more } = await pull(who, [{ ...scope, ...state }], { limit });
    const [one] = scopes;
    records.push(...((one?.records ?? []) as never[]));
    state = { at: one?.at as number, ...(one?.fill ? { fill: one.fill } : {}) };
    if (!more) return { records, at: one?.at as number };
  }
}

describe('a device that pulls', () => {
  it('fills a scope page by page, and then gets what changed alone', async () => {
    const made = await Promise.all(Array.from({ length: 7 }, (_, i) => note(runa, { text: `Fill ${i}` })));
    const { records, at } = await filled(runa, { collection: 'notes', filter: "text LIKE 'Fill%'" }, 3);
    expect(records.map(({ id }) => id)).toEqual(made.map(({ id }) => id).sort());
    const scope = { collection: 'notes', filter: "text LIKE 'Fill%'", at };
    const known = (await pull(runa, [scope])).scopes[0]?.shape?.name as string;
    expect(await pull(runa, [{ ...scope, shape: known }])).toMatchObject({ more: false, scopes: [] });
    await write(runa, 'PATCH', `/${made[0]?.id}`, { text: 'Fill again' });
    await write(runa, 'PATCH', `/${made[1]?.id}`, { text: 'Elsewhere' });
    await write(runa, 'DELETE', `/${made[2]?.id}`);
    const { scopes } = await pull(runa, [scope]);
    expect(scopes[0]?.records).toMatchObject([{ id: made[0]?.id, text: 'Fill again' }]);
    expect(scopes[0]?.gone?.sort()).toEqual([made[1]?.id, made[2]?.id].sort());
  });

  it('is told the fields it may see and how they merge, once', async () => {
    const { scopes } = await pull(runa, [{ collection: 'notes', ids: [] }]);
    const shape = scopes[0]?.shape;
    expect(shape).toMatchObject({ fields: { text: 'text', seats: 'integer' }, merge: { seats: 'smaller', tags: 'union' } });
    expect(shape?.fields).not.toHaveProperty('secret');
    expect((await pull(runa, [{ collection: 'notes', ids: [], shape: shape?.name as string }])).scopes).toEqual([]);
  });

  it('answers that nothing changed in less than 500 bytes', async () => {
    const { at } = await filled(runa, { collection: 'notes' });
    const known = (await pull(runa, [{ collection: 'notes', ids: [] }])).scopes[0]?.shape?.name;
    const scopes = ["text = 'a'", "text = 'b'", 'seats > 2', 'shared = TRUE', undefined].map((filter) => ({
      collection: 'notes',
      at,
      shape: known,
      ...(filter ? { filter } : {}),
    }));
    const { text } = await ask(runa, 'pull', { scopes });
    expect(Buffer.byteLength(text)).toBeLessThan(500);
  });

  it('loses what the person may no longer read: by the feed, and by comparing where no change tells', async () => {
    const seen = await note(runa, { text: 'Rope on the ridge', shared: true });
    const guarded = await note(runa, { text: 'Key of the store', shared: false });
    const scope = { collection: 'notes', filter: `id IN ('${seen.id}', '${guarded.id}')` };
    const { at, records } = await filled(warden, scope);
    expect(records).toHaveLength(2);
    const held = [seen, guarded].map(({ id, version }) => ({ id, version })).sort((a, b) => (a.id < b.id ? -1 : 1));
    const compare = async () => (await pull(warden, [{ ...scope, at, ranges: digestRanges(held) }])).scopes[0]?.differing;
    expect(await compare()).toBeUndefined();
    await setRoles(warden.id, []);
    expect((await pull(warden, [{ ...scope, at }])).scopes.filter(({ gone }) => gone)).toEqual([]);
    expect(await compare()).toEqual([{ range: 0, held: [[seen.id, seen.version]] }]);
    await write(runa, 'PATCH', `/${seen.id}`, { shared: false });
    expect((await pull(warden, [{ ...scope, at }])).scopes[0]?.gone).toEqual([seen.id]);
    await setRoles(warden.id, ['warden']);
  });

  it('is told to fill anew where the changes it lacks are no longer kept, or were never made here', async () => {
    const far = (await filled(runa, { collection: 'notes' })).at + 1_000_000;
    expect((await pull(runa, [{ collection: 'notes', at: far }])).scopes[0]).toMatchObject({ anew: true });
  });

  it('goes on where it was when there is more than one response takes', async () => {
    const { at } = await filled(runa, { collection: 'notes' });
    const made = await Promise.all(Array.from({ length: 5 }, () => note(runa, { text: 'Many' })));
    const found: string[] = [];
    for (let next = at, more = true; more; ) {
      const answer = await pull(runa, [{ collection: 'notes', at: next }], { limit: 2 });
      found.push(...((answer.scopes[0]?.records ?? []) as { id: string }[]).map(({ id }) => id));
      ({ at: next, more } = answer);
    }
    expect([...new Set(found)].sort()).toEqual(made.map(({ id }) => id).sort());
  });

  it('hears of a scope that cannot be, and gets the others', async () => {
    const { scopes } = await pull(runa, [{ collection: 'notes', filter: 'tex = 1' }, { collection: 'nowhere' }, { collection: 'notes' }]);
    expect(scopes[0]?.problem?.detail).toContain('did you mean `text`');
    expect(scopes[1]?.problem?.status).toBe(404);
    expect(scopes[2]?.records?.length).toBeGreaterThan(0);
  });
});

describe('a large response', () => {
  const asked = (encoding: string) =>
    new Promise<{ headers: IncomingHttpHeaders; content: Buffer }>((resolve, reject) => {
      const headers = {
        'orchard-key': app.dev.clientKey,
        authorization: `Bearer ${runa.token}`,
        'content-type': 'application/json',
        'accept-encoding': encoding,
      };
      const call = request(`${test.address}/app/v1/sync/pull`, { method: 'POST', headers }, async (reply) =>
        resolve({ headers: reply.headers, content: await buffer(reply) }),
      );
      call.on('error', reject).end(JSON.stringify({ scopes: [{ collection: 'notes' }] }));
    });

  it('is packed for those who accept that, and is the same to those who do not', async () => {
    await Promise.all(Array.from({ length: 20 }, (_, i) => note(runa, { text: `Many words of one note, and again the same words ${i}` })));
    const [packed, plain] = [await asked('gzip, deflate'), await asked('gzip;q=0')];
    expect([packed.headers['content-encoding'], plain.headers['content-encoding']]).toEqual(['gzip', undefined]);
    expect(JSON.parse(gunzipSync(packed.content).toString())).toEqual(JSON.parse(plain.content.toString()));
    expect(packed.content.length).toBeLessThan(plain.content.length / 3);
  });
});

describe('a device that pushes', () => {
  it('has each change taken or refused by itself, and gets the records back as they are', async () => {
    const id = randomUUID();
    const { results, records } = await push(runa, [create(id, { text: 'Made offline', seats: 4 }), create(randomUUID(), { text: 5 })]);
    expect(results.map(({ status }) => status)).toEqual(['taken', 'refused']);
    expect(results[1]?.problem?.detail).toContain('must be text');
    expect(records).toMatchObject([{ collection: 'notes', record: { id, version: 1, seats: 4, ownerId: runa.id } }]);
  });

  it('counts a change once, however often it is sent, at the same time too', async () => {
    const made = await note(runa, { text: 'Bunks', seats: 10 });
    const body = { changes: [{ id: randomUUID(), ...(change(made, { _add: { seats: -1 } }, {}) as object) }] };
    await Promise.all([1, 2, 3].map(() => ask(runa, 'push', body)));
    const again = await ask(runa, 'push', body);
    expect(again.body.results).toMatchObject([{ status: 'taken' }]);
    expect((await write(runa, 'GET', `/${made.id}`)).body.seats).toBe(9);
    const theirs = await ask(warden, 'push', body);
    expect(theirs.body.results[0]).toMatchObject({ status: 'refused', problem: { status: 409 } });
  });

  it('keeps both sides where their fields differ, and settles the same field as the collection says', async () => {
    const made = await note(runa, { text: 'Old', seats: 8, tags: ['a'], facts: { stove: 'wood', beds: { upper: 2, lower: 3 } } });
    await write(warden, 'PATCH', `/${made.id}`, { text: 'Warden', seats: 5, tags: ['a', 'w'] });
    const { results, records } = await push(runa, [
      change(
        made,
        { text: 'Runa', seats: 6, tags: ['r'], facts: { beds: { upper: 2 } } },
        { text: 'Old', seats: 8, tags: ['a'], facts: { stove: 'wood', beds: { upper: 2, lower: 3 } } },
      ),
    ]);
    expect(records[0]?.record).toMatchObject({ text: 'Warden', seats: 5, tags: ['w', 'r'], facts: { beds: { upper: 2 } } });
    expect(results[0]?.conflicts).toEqual([
      { field: 'text', device: 'Runa', service: 'Warden', kept: 'Warden' },
      { field: 'seats', device: 6, service: 5, kept: 5 },
      { field: 'tags', device: ['r'], service: ['a', 'w'], kept: ['w', 'r'] },
    ]);
  });

  it('may change and refer to what it made in the same push', async () => {
    const id = randomUUID();
    const { results, records } = await push(runa, [
      create(id, { text: 'First', seats: 1 }),
      change({ id, version: 0 }, { text: 'Second' }, { text: 'First' }),
      change({ id, version: 0 }, { text: 'Third' }, { text: 'Second' }),
    ]);
    expect(results.map(({ status, conflicts }) => [status, conflicts])).toEqual(Array(3).fill(['taken', undefined]));
    expect(records).toMatchObject([{ record: { id, text: 'Third', seats: 1, version: 3 } }]);
  });

  it('does not delete what somebody else changed meanwhile, nor mind what is gone already', async () => {
    const made = await note(runa, { text: 'Board' });
    await write(warden, 'PATCH', `/${made.id}`, { text: 'Better board' });
    const remove = { collection: 'notes', action: 'remove', record: made.id, version: made.version } as never;
    expect((await push(runa, [remove])).results[0]).toMatchObject({ status: 'refused', problem: { status: 412 } });
    await write(warden, 'DELETE', `/${made.id}`);
    expect((await push(runa, [remove])).results[0]).toMatchObject({ status: 'taken' });
    expect((await push(runa, [change(made, { text: 'x' }, { text: 'Board' })])).results[0]).toMatchObject({
      status: 'refused',
      problem: { status: 404 },
    });
  });

  it('is refused what the rules refuse, and learns nothing of what it may not read', async () => {
    const guarded = await note(warden, { text: 'Safe', shared: false });
    const { results, records } = await push(runa, [change(guarded, { text: 'Open' }, { text: 'Guess' })]);
    expect(results[0]?.conflicts).toBeUndefined();
    expect(JSON.stringify([results, records])).not.toContain('Safe');
    await setRoles(runa.id, []);
  });
});

describe('how far a device is', () => {
  it('stands on its page: last sync, behind, pending, conflicts, and what went wrong', async () => {
    const registration = { platform: 'ios', appVersion: '3.2', os: 'iOS 19', locale: 'en', timeZone: 'UTC', permission: 'unasked' };
    const { body } = await test.app('PUT', '/devices/ridge-phone', { key: app.dev.clientKey, token: runa.token, body: registration });
    const device = { 'orchard-device': 'ridge-phone', 'orchard-device-secret': body.secret };
    const first = await ask(
      runa,
      'pull',
      {
        scopes: [
          { collection: 'notes', at: 0 },
          { collection: 'notes', filter: 'txet = 1' },
        ],
        pending: 3,
        conflicts: 1,
      },
      device,
    );
    await ask(runa, 'push', { changes: [{ id: randomUUID(), ...(create(randomUUID(), { text: 'Counted' }) as object) }] }, device);
    const { items } = await test.owner.call(operations.sync.devices, { params: app.dev.params });
    expect(items).toMatchObject([
      {
        device: 'ridge-phone',
        number: first.body.at,
        behind: 1,
        pending: 3,
        conflicts: 1,
        scopes: 2,
        taken: 1,
        refused: 0,
        appVersion: '3.2',
      },
    ]);
    expect((await ask(runa, 'pull', { scopes: [{ collection: 'notes', at: 0 }] }, { 'orchard-device': 'ridge-phone' })).status).toBe(403);
    const none = await test.owner
      .call(operations.sync.device, { params: { ...app.dev.params, device: 'never-synced' } })
      .catch((error) => error);
    expect(none.detail).toContain('has not synced');
  });
});
