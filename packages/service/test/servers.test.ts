/** Two database servers, with environments on each. */
import { rmSync } from 'node:fs';
import { operations } from '@orchard/contract';
import mysql from 'mysql2/promise';
import pino from 'pino';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { readConfig } from '../src/platform/config.js';
import { type DatabaseServer, startDatabaseServer } from '../src/platform/database/server.js';
import { startService } from '../src/service.js';
import { scratchDirectory } from './scratch.js';
import { eventually, listenTo, signUp, startTestService, type TestService } from './support.js';

const directory = scratchDirectory('second-server');
let second: DatabaseServer;
let test: TestService;
const params = { app: 'quillfell-hiker', environment: 'south' };
let key: string;
let clientKey: string;
const address = (server: DatabaseServer) => server.url.replace(/\/orchard$/, '');

beforeAll(async () => {
  second = await startDatabaseServer(directory, pino({ level: 'silent' }));
  test = await startTestService(inject('databaseUrl'), { databaseServers: new Map([['south', address(second)]]) });
  await test.owner.call(operations.apps.create, { body: { name: params.app } });
  const made = await test.owner.call(operations.environments.create, {
    params: { app: params.app },
    body: { name: 'south', mode: 'open', server: 'south' },
  });
  expect(made).toMatchObject({ name: 'south', server: 'south' });
  const server = await test.owner.call(operations.clients.create, { params, body: { name: 'weather-office', kind: 'server' } });
  const made2 = await test.owner.call(operations.clients.createKey, {
    params: { ...params, client: server.name },
    body: { name: 'all', scopes: ['records:read', 'records:write', 'notify:send'] },
  });
  key = made2.key as string;
  const web = await test.owner.call(operations.clients.create, { params, body: { name: 'hiker-web', kind: 'web' } });
  clientKey = web.keys[0]?.key as string;
});
afterAll(async () => {
  await test?.stop();
  await second?.stop();
  rmSync(directory, { recursive: true, force: true });
});

const databasesOn = async (url: string, like: string): Promise<string[]> => {
  const connection = await mysql.createConnection({ uri: url });
  const [rows] = await connection.query<mysql.RowDataPacket[]>(
    'SELECT SCHEMA_NAME AS name FROM information_schema.SCHEMATA WHERE SCHEMA_NAME LIKE ?',
    [like],
  );
  await connection.end();
  return rows.map(({ name }) => name);
};

it('an environment lives on the server it was placed on, and nowhere else', async () => {
  const { db } = await test.service.parts.directory.environment(params.app, 'south');
  expect(await databasesOn(address(second), db.name)).toEqual([db.name]);
  expect(await databasesOn(inject('databaseUrl'), db.name)).toEqual([]);
  const { items } = await test.owner.call(operations.apps.list, {});
  expect(items[0]?.environments.map(({ name, server }) => [name, server])).toEqual([
    ['dev', null],
    ['live', null],
    ['south', 'south'],
  ]);
});

it('records, users, live streams, jobs and recorded calls work there as on the main one', async () => {
  expect((await test.app('POST', '/data/huts', { key, body: { name: 'Tarnside', bunks: 2 } })).status).toBe(201);
  const listening = await listenTo(test.address, 'huts', { key });
  const hut = await test.app('POST', '/data/huts', { key, body: { name: 'Fellgate', bunks: 8 } });
  expect(hut.status).toBe(201);
  await listening.next('entered');
  listening.stop();
  expect((await test.app('GET', '/data/huts?filter=bunks > 2', { key })).body.items).toHaveLength(1);
  const runa = await signUp({ app: test.app }, clientKey, 'runa');
  expect((await test.app('GET', '/users/me', { key: clientKey, token: runa.token })).body.email).toContain('runa');
  const later = await test.app('POST', '/notifications', {
    key,
    body: { title: 'Storm', audience: { everyone: true }, start: { at: new Date(Date.now() + 1_500).toISOString() } },
  });
  expect(later).toMatchObject({ status: 202, body: { state: 'scheduled' } });
  // Its audience is empty, so that it is done as soon as a job has started it.
  await expect.poll(async () => (await test.owner.call(operations.jobs.list, { params, query: {} })).items).toEqual([]);
  await eventually(async () => (await test.owner.call(operations.telemetry.requests, { params, query: {} })).items.length > 0);
});

it('a server that the settings do not name is refused, with those there are', async () => {
  const add = test.owner.call(operations.environments.create, {
    params: { app: params.app },
    body: { name: 'east', mode: 'open', server: 'east' },
  });
  await expect(add).rejects.toMatchObject({
    problem: 'invalid-input',
    extras: { fields: [{ path: 'body.server', expected: expect.stringContaining('south') }] },
  });
});

it('with the second server away, its environment answers 503 and the others go on', async () => {
  const dev = await test.owner.call(operations.clients.create, {
    params: { app: params.app, environment: 'dev' },
    body: { name: 'dev-office', kind: 'server' },
  });
  const devKey = (
    await test.owner.call(operations.clients.createKey, {
      params: { app: params.app, environment: 'dev', client: dev.name },
      body: { name: 'all', scopes: ['records:read', 'records:write'] },
    })
  ).key as string;
  await second.stop();
  expect((await test.app('GET', '/data/huts', { key })).status).toBe(503);
  expect((await test.app('POST', '/data/huts', { key: devKey, body: { name: 'Tarnside' } })).status).toBe(201);
  second = await startDatabaseServer(directory, pino({ level: 'silent' }));
  await eventually(async () => (await test.app('GET', '/data/huts', { key })).status === 200, 20_000);
});

it('deleting the environment takes its database from that server', async () => {
  const { db } = await test.service.parts.directory.environment(params.app, 'south');
  await test.owner.call(operations.environments.remove, { params });
  expect(await databasesOn(address(second), db.name)).toEqual([]);
});

it('a start without the server that environments are on says which one is missing', async () => {
  await test.owner.call(operations.environments.create, {
    params: { app: params.app },
    body: { name: 'south', mode: 'open', server: 'south' },
  });
  const config = {
    ...test.config,
    dataDirectory: scratchDirectory('without'),
    secretKey: test.service.parts.secretKey,
    databaseServers: new Map(),
  };
  await expect(startService(config, pino({ level: 'silent' }))).rejects.toThrow('south');
  expect(() => readConfig({ ORCHARD_DATABASE_SERVERS: 'south=http://x' })).toThrow(
    'ORCHARD_DATABASE_SERVERS has no name and address as number 1',
  );
});
