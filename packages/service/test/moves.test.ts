/** An environment that moves to another database server while two instances serve it. */
import { rmSync } from 'node:fs';
import { setTimeout as sleep } from 'node:timers/promises';
import { type MoveDocument, operations } from '@orchard/contract';
import mysql from 'mysql2/promise';
import pino from 'pino';
import { afterAll, afterEach, beforeAll, expect, inject, it } from 'vitest';
import { type DatabaseServer, startDatabaseServer } from '../src/platform/database/server.js';
import { type RunningService, startService } from '../src/service.js';
import { scratchDirectory } from './scratch.js';
import { expectAll, keepWriting, type Writers } from './keepWriting.js';
import { callApp, eventually, listenTo, makeApp, type Place, signUp, startTestService, type TestService } from './support.js';

const own = operations.moves;
/** Four writers and a copy, on a machine that does other things too. */
const PATIENCE_MS = 300_000;
const directory = scratchDirectory('moved-to');
const otherDirectory = scratchDirectory('other-instance');
let second: DatabaseServer;
let test: TestService;
let other: RunningService;
let dev: Place;

beforeAll(async () => {
  second = await startDatabaseServer(directory, pino({ level: 'silent' }));
  // One that takes no rows as a stream, as others may be set up.
  const connection = await mysql.createConnection({ uri: second.url });
  await connection.query('SET GLOBAL local_infile = OFF');
  await connection.end();
  test = await startTestService(inject('databaseUrl'), { databaseServers: new Map([['south', second.url.replace(/\/orchard$/, '')]]) });
  const log = pino({ level: process.env.ORCHARD_TEST_LOG ?? 'silent' });
  const secretKey = test.service.parts.secretKey;
  other = await startService(
    { ...test.config, secretKey, dataDirectory: otherDirectory, filesDirectory: test.config.filesDirectory, port: 0 },
    log,
  );
  ({ dev } = await makeApp(test, 'quillfell-hiker'));
});
afterAll(async () => {
  await other?.stop();
  await test?.stop();
  await second?.stop();
  for (const one of [directory, otherDirectory]) rmSync(one, { recursive: true, force: true });
});

let writers: Writers | null = null;
afterEach(() => writers?.stop());
/** Through both instances, two each. */
const write = () => (writers = keepWriting([test.address, test.address, other.address, other.address], dev.serverKey));

const ended = ({ id }: MoveDocument): Promise<MoveDocument> =>
  eventually(async () => {
    const now = await test.owner.call(own.read, { params: { ...dev.params, move: id } });
    return now.endedAt ? now : null;
  }, PATIENCE_MS);
const databases = async (url: string): Promise<string[]> => {
  const { db } = await test.service.parts.directory.environment(dev.params.app, dev.params.environment);
  const connection = await mysql.createConnection({ uri: url });
  const [rows] = await connection.query<mysql.RowDataPacket[]>('SHOW DATABASES LIKE ?', [db.name]);
  await connection.end();
  return rows.map((row) => Object.values(row)[0] as string);
};
const begin = (server: string | null) => test.owner.call(own.begin, { params: dev.params, body: { server } });
const south = () => second.url.replace(/\/orchard$/, '');

it('tells first what it does and what stays, and refuses a server that is not there', async () => {
  const plan = await test.owner.call(own.plan, { params: dev.params, query: { server: 'south' } });
  expect(plan).toMatchObject({ from: null, to: 'south', bytes: expect.any(Number), durationMs: expect.any(Number) });
  expect(plan.stays.join(' ')).toContain('sessions');
  await expect(begin('north')).rejects.toMatchObject({ problem: 'invalid-input' });
  await expect(begin(null)).rejects.toMatchObject({ detail: expect.stringContaining('already') });
});

it('loses no write and fails no call, keeps sessions and streams, and leaves nothing behind', async () => {
  const runa = await signUp(test, dev.clientKey, 'runa');
  await test.app('PUT', '/data/huts/still', { key: dev.serverKey, body: { name: 'still', beds: 1 } });
  await test.owner.call(operations.collections.patch, { params: { ...dev.params, collection: 'huts' }, body: { rules: { read: 'TRUE' } } });
  const heard = await listenTo(other.address, 'huts', { key: dev.serverKey });
  const writer = write();
  await sleep(500);
  const move = await begin('south');
  await expect(begin('south')).rejects.toMatchObject({ problem: 'move-in-progress' });
  const done = await ended(move);
  await sleep(500);
  await writer.stop();
  expect(writer.refused).toEqual([]);
  expect(done).toMatchObject({ state: 'done', problem: null, to: 'south' });
  expect(done.pauseMs).toEqual(expect.any(Number));
  const { server } = await test.owner.call(operations.environments.read, { params: dev.params });
  expect(server).toBe('south');
  await expectAll(writer.written, [test.address, other.address], dev.serverKey);
  expect((await callApp(other.address, 'GET', '/users/me', { key: dev.clientKey, token: runa.token })).status).toBe(200);
  expect(await databases(inject('databaseUrl'))).toEqual([]);
  expect(await databases(south())).toHaveLength(1);
  // A stream that was open all the time hears of what is written there.
  await test.app('PUT', '/data/huts/heard', { key: dev.serverKey, body: { name: 'heard', beds: 7 } });
  await eventually(() => heard.events.some((event) => JSON.stringify(event).includes('"heard"')));
  heard.stop();
  // Each change has one entry of the feed: the copy has made none.
  const { db } = await test.service.parts.directory.environment(dev.params.app, dev.params.environment);
  const twins = await db.rows(
    `SELECT recordId, version FROM ${db.collection('_feed')} WHERE collection = 'huts' GROUP BY recordId, version HAVING COUNT(*) > 1`,
  );
  expect(twins).toEqual([]);
}, 400_000);

it('goes on while collections are made, changed and dropped, and comes back to the main server', async () => {
  const writer = write();
  const move = await begin(null);
  for (let i = 0; i < 6; i++) {
    await test.app('PUT', `/data/lakes${i}/one`, { key: dev.serverKey, body: { name: `lake ${i}`, depth: i } });
    await test.app('PUT', `/data/huts/wide-${i}`, { key: dev.serverKey, body: { name: 'wide', beds: 1, [`more${i}`]: 'x' } });
    await sleep(300);
  }
  await test.owner.call(operations.collections.remove, { params: { ...dev.params, collection: 'lakes0' } });
  const done = await ended(move);
  await writer.stop();
  expect(done).toMatchObject({ state: 'done', problem: null });
  expect(writer.refused).toEqual([]);
  for (let i = 1; i < 6; i++)
    expect((await test.app('GET', `/data/lakes${i}/one`, { key: dev.serverKey })).body).toMatchObject({ depth: i });
  expect((await test.app('GET', '/data/huts/wide-5', { key: dev.serverKey })).body).toMatchObject({ more5: 'x' });
  expect((await test.app('GET', '/data/lakes0/one', { key: dev.serverKey })).status).toBe(404);
  expect(await databases(south())).toEqual([]);
}, 400_000);

it('is undone before it switches, by hand or when something goes wrong, and everything is as it was', async () => {
  const move = await begin('south');
  await test.owner.call(own.undo, { params: { ...dev.params, move: move.id } });
  expect(await ended(move)).toMatchObject({ state: 'undone' });
  expect(await databases(south())).toEqual([]);
  const { db } = await test.service.parts.directory.environment(dev.params.app, dev.params.environment);
  const left = await db.rows(
    "SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = ? AND TRIGGER_NAME LIKE '\\_move%'",
    [db.name],
  );
  expect(left).toEqual([]);
  expect((await test.app('PUT', '/data/huts/after', { key: dev.serverKey, body: { name: 'after', beds: 2 } })).status).toBeLessThan(300);
  await expect(test.owner.call(own.undo, { params: { ...dev.params, move: move.id } })).rejects.toMatchObject({ problem: 'wrong-state' });
}, 400_000);
