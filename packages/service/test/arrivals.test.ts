/** An environment that moves to another installation while it is used. */
import { createServer, type IncomingMessage, request, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';
import { type MoveDocument, operations } from '@orchard/contract';
import mysql from 'mysql2/promise';
import { afterAll, afterEach, beforeAll, expect, inject, it } from 'vitest';
import { expectAll, keepWriting, type Writers } from './keepWriting.js';
import { callApp, eventually, listenTo, makeApp, type Place, signUp, startTestService, type TestService } from './support.js';

const own = operations.moves;
const arrivals = operations.arrivals;
/** An archive, its loading and writers at the same time, on a machine that does other things too. */
const PATIENCE_MS = 300_000;
let here: TestService;
let there: TestService;
let dev: Place;
let live: Place;

beforeAll(async () => {
  [here, there] = await Promise.all([startTestService(inject('databaseUrl')), startTestService(inject('databaseUrl'))]);
  ({ dev, live } = await makeApp(here, 'quillfell-hiker'));
});
afterAll(async () => {
  await here?.stop();
  await there?.stop();
});

let writers: Writers | null = null;
let between: Server | null = null;
afterEach(async () => {
  await writers?.stop();
  between?.close();
});
const write = (place: Place) => (writers = keepWriting([here.address, here.address, here.address], place.serverKey));

const ticket = async () => (await there.owner.call(arrivals.begin, {})).ticket;
const begin = async (place: Place, installation = there.address) =>
  here.owner.call(own.begin, { params: place.params, body: { installation, ticket: await ticket() } });
const ended = (place: Place, { id }: MoveDocument): Promise<MoveDocument> =>
  eventually(async () => {
    const now = await here.owner.call(own.read, { params: { ...place.params, move: id } });
    return now.endedAt ? now : null;
  }, PATIENCE_MS);
const read = (address: string, path: string, place: Place) => callApp(address, 'GET', path, { key: place.serverKey });
/** Databases of environments that an installation has. */
async function databases({ service }: TestService): Promise<number> {
  const connection = await mysql.createConnection({ uri: inject('databaseUrl') });
  const [rows] = await connection.query<mysql.RowDataPacket[]>('SHOW DATABASES LIKE ?', [`${service.parts.database.name}\\_%`]);
  await connection.end();
  return rows.length;
}

it('says first what it does, and refuses what cannot come', async () => {
  const before = await databases(there);
  const plan = await here.owner.call(own.plan, { params: dev.params, query: { installation: there.address } });
  expect(plan).toMatchObject({ installation: there.address, bytes: expect.any(Number) });
  expect(plan.steps.join(' ')).toContain('passes all calls');
  const move = (installation: string, given: string) =>
    here.owner.call(own.begin, { params: dev.params, body: { installation, ticket: given } });
  await expect(move(there.address, 'once-aaaa-bbbb-cccc-dddd')).rejects.toMatchObject({ problem: 'arrival-refused' });
  await expect(move('http://127.0.0.1:9', await ticket())).rejects.toMatchObject({
    problem: 'moved-installation-away',
    detail: expect.stringContaining('does not answer'),
  });
  await expect(move(here.address, (await here.owner.call(arrivals.begin, {})).ticket)).rejects.toMatchObject({ problem: 'already-exists' });
  const taken = await there.owner.call(arrivals.begin, {});
  await there.owner.call(arrivals.remove, { params: { arrival: taken.id } });
  await expect(move(there.address, taken.ticket)).rejects.toMatchObject({ problem: 'wrong-state' });
  expect(await databases(there)).toBe(before);
});

it('loses no write and fails no call, keeps keys, sessions and files, and passes calls on', async () => {
  const runa = await signUp(here, dev.clientKey, 'runa');
  const photo = Buffer.alloc(300_000, 'ridge');
  await fetch(`${here.address}/app/v1/files/photo.bin`, { method: 'PUT', headers: { 'orchard-key': dev.serverKey }, body: photo });
  await callApp(here.address, 'PUT', '/data/huts/still', { key: dev.serverKey, body: { name: 'still', beds: 1 } });
  const heard = await listenTo(here.address, 'huts', { key: dev.serverKey });
  const writer = write(dev);
  await sleep(500);
  const move = await begin(dev);
  await expect(begin(dev)).rejects.toMatchObject({ problem: 'move-in-progress' });
  const done = await ended(dev, move);
  await sleep(500);
  await writer.stop();
  expect(writer.refused).toEqual([]);
  expect(done).toMatchObject({ state: 'done', problem: null, installation: there.address });
  expect(done.pauseMs).toBeLessThan(8_000);
  expect(writer.written.size).toBeGreaterThan(100);
  await expectAll(writer.written, [here.address, there.address], dev.serverKey);
  for (const address of [here.address, there.address]) {
    expect((await callApp(address, 'GET', '/users/me', { key: dev.clientKey, token: runa.token })).status).toBe(200);
    const got = await fetch(`${address}/app/v1/files/photo.bin`, { headers: { 'orchard-key': dev.serverKey } });
    expect(Buffer.from(await got.arrayBuffer()).equals(photo)).toBe(true);
  }
  // The stream that was open here has ended; one that is opened here now comes from there.
  heard.stop();
  const again = await listenTo(here.address, 'huts', { key: dev.serverKey });
  await callApp(there.address, 'PUT', '/data/huts/heard', { key: dev.serverKey, body: { name: 'heard', beds: 7 } });
  await eventually(() => again.events.some((event) => JSON.stringify(event).includes('"heard"')));
  again.stop();
  const { db } = await there.service.parts.directory.environment(dev.params.app, dev.params.environment);
  const twins = await db.rows(
    `SELECT recordId, version FROM ${db.collection('_feed')} WHERE collection = 'huts' GROUP BY recordId, version HAVING COUNT(*) > 1`,
  );
  expect(twins).toEqual([]);
  const { items } = await there.owner.call(arrivals.list, {});
  expect(items.find(({ app }) => app === dev.params.app)).toMatchObject({ state: 'arrived', environment: dev.params.environment });
}, 400_000);

it('tells members where it went, and forgets it once it is deleted here', async () => {
  await expect(here.owner.call(operations.collections.list, { params: dev.params })).rejects.toMatchObject({
    problem: 'environment-moved',
    detail: expect.stringContaining(there.address),
  });
  expect(await here.owner.call(operations.environments.read, { params: dev.params })).toMatchObject({ movedTo: there.address });
  expect((await there.owner.call(operations.collections.list, { params: dev.params })).items.length).toBeGreaterThan(0);
  await here.owner.call(operations.environments.remove, { params: dev.params });
  expect((await read(here.address, '/data/huts/heard', dev)).status).toBe(401);
  expect((await read(there.address, '/data/huts/heard', dev)).status).toBe(200);
});

it('goes on while collections change, and is undone by hand without a trace', async () => {
  await here.owner.call(operations.environments.patch, { params: live.params, body: { mode: 'open' } });
  const writer = write(live);
  await sleep(300);
  const undone = await begin(live);
  await here.owner.call(own.undo, { params: { ...live.params, move: undone.id } });
  expect(await ended(live, undone)).toMatchObject({ state: 'undone' });
  const before = await databases(there);
  const move = await begin(live);
  for (let i = 0; i < 4; i++) {
    await callApp(here.address, 'PUT', `/data/lakes${i}/one`, { key: live.serverKey, body: { depth: i } });
    await sleep(400);
  }
  expect(await ended(live, move)).toMatchObject({ state: 'done', problem: null });
  await writer.stop();
  expect(writer.refused).toEqual([]);
  for (let i = 0; i < 4; i++) expect((await read(there.address, `/data/lakes${i}/one`, live)).body).toMatchObject({ depth: i });
  await expectAll(writer.written, [there.address], live.serverKey);
  expect(await databases(there)).toBe(before + 1);
}, 400_000);

/** A way to the other installation that answers nothing once the move is to be finished, until it is told otherwise. */
async function brokenWay(): Promise<{ address: string; mend: () => void; asked: () => boolean }> {
  let [isBroken, wasAsked] = [true, false];
  const pass = (from: IncomingMessage, to: ServerResponse) => {
    const isFinish = from.url?.endsWith('/finish') ?? false;
    wasAsked ||= isFinish;
    const out = request(there.address + from.url, { method: from.method, headers: from.headers }, (answer) => {
      if (isBroken && wasAsked) return to.destroy();
      to.writeHead(answer.statusCode as number, answer.headers);
      answer.pipe(to);
    });
    from.pipe(out);
  };
  between = createServer(pass);
  await new Promise<void>((resolve) => between?.listen(0, '127.0.0.1', resolve));
  const { port } = between.address() as AddressInfo;
  return { address: `http://127.0.0.1:${port}`, mend: () => (isBroken = false), asked: () => wasAsked };
}

it('holds writes until both agree, when the answer to the last call is lost', async () => {
  const { dev: third } = await makeApp(here, 'quillfell-lakes');
  await callApp(here.address, 'PUT', '/data/huts/one', { key: third.serverKey, body: { beds: 1 } });
  const way = await brokenWay();
  const move = await begin(third, way.address);
  await eventually(() => way.asked(), PATIENCE_MS);
  await sleep(1_500);
  const held = callApp(here.address, 'PUT', '/data/huts/one', { key: third.serverKey, body: { beds: 2 } });
  expect(await Promise.race([held.then(() => 'answered'), sleep(2_000, 'held')])).toBe('held');
  way.mend();
  expect((await held).status).toBe(200);
  expect(await ended(third, move)).toMatchObject({ state: 'done' });
  expect((await read(there.address, '/data/huts/one', third)).body).toMatchObject({ beds: 2 });
}, 400_000);
