/** Three instances, each with a node of its own in a Galera cluster: everything that holds on one server holds there. */
import { execFileSync } from 'node:child_process';
import { renameSync, rmSync } from 'node:fs';
import { setTimeout as sleep } from 'node:timers/promises';
import { createHttpClient, operations } from '@orchard/contract';
import { GaleraCluster, type GaleraNode } from '@orchard/simulators';
import pino from 'pino';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { readConfig } from '../src/platform/config.js';
import { openDatabase } from '../src/platform/database/connection.js';
import { type RunningService, startService } from '../src/service.js';
import { scratchDirectory } from './scratch.js';
import { expectAll, keepWriting } from './keepWriting.js';
import { callApp, eventually, listenTo, makeApp, memberClient, OWNER, type Place } from './support.js';

const directory = scratchDirectory('cluster');
const files = scratchDirectory('cluster-files');
const SECRET_KEY = 'c1'.repeat(32);
let cluster: GaleraCluster;
let instances: RunningService[] = [];
let dev: Place;
let turn = 0;
/** The next instance: a balancer sends one client to all of them in turn. */
const next = (): string => (instances[turn++ % instances.length] as RunningService).address;
const call = (method: string, path: string, body?: unknown) =>
  callApp(next(), method, path, { key: dev.serverKey, ...(body === undefined ? {} : { body }) });

const startInstance = (first: number) =>
  startService(
    readConfig({
      ORCHARD_PORT: '0',
      ORCHARD_DATA: scratchDirectory(`cluster-${first}`),
      ORCHARD_FILES: files,
      ORCHARD_DATABASE_URL: cluster.url(first),
      ORCHARD_SECRET_KEY: SECRET_KEY,
      ORCHARD_KEY_RATE: '1000000',
      ORCHARD_ADDRESS_RATE: '1000000',
    }),
    pino({ level: process.env.ORCHARD_TEST_LOG ?? 'silent' }),
  );

/** Of instances that start at once, the last one's address is the one that holds. */
async function setUp(): Promise<void> {
  for (const { setupAddress } of instances) {
    const { origin, searchParams } = new URL(setupAddress as string);
    const body = { token: searchParams.get('token') as string, ...OWNER };
    if (
      await createHttpClient({ address: origin })
        .call(operations.members.setUp, { body })
        .catch(() => null)
    )
      return;
  }
  throw new Error('no address of the set-up holds');
}

beforeAll(async () => {
  cluster = await GaleraCluster.start(directory);
  // All at once, on a cluster that has no tables yet.
  instances = await Promise.all([0, 1, 2].map(startInstance));
  await setUp();
  const owner = await memberClient(next(), OWNER);
  ({ dev } = await makeApp({ owner }, 'quillfell-hiker'));
  await call('PUT', '/data/huts/first', { name: 'first', beds: 1 });
  await owner.call(operations.collections.patch, { params: { ...dev.params, collection: 'huts' }, body: { rules: { read: 'TRUE' } } });
}, 400_000);
afterAll(async () => {
  await Promise.all(instances.map((instance) => instance.stop()));
  await cluster?.stop();
  cluster?.forget();
  for (const one of [directory, files]) rmSync(one, { recursive: true, force: true });
}, 120_000);

it('reads what was written a moment ago, whichever instance wrote it', async () => {
  for (let i = 0; i < 150; i++) {
    expect((await call('PUT', '/data/huts/turn', { name: 'turn', beds: i })).status).toBeLessThan(300);
    expect((await call('GET', '/data/huts/turn')).body.beds).toBe(i);
    const { items } = (await call('GET', `/data/huts?filter=${encodeURIComponent(`beds = ${i} AND name = 'turn'`)}`)).body;
    expect(items).toHaveLength(1);
  }
});

it('retries commits that conflict: no write to the same record is lost or refused', async () => {
  await call('PUT', '/data/counts/one', { a: 0, b: 0, c: 0 });
  const lanes = ['a', 'b', 'c'].map(async (field) => {
    for (let i = 1; i <= 60; i++) expect((await call('PATCH', '/data/counts/one', { [field]: i })).status).toBe(200);
  });
  await Promise.all(lanes);
  expect((await call('GET', '/data/counts/one')).body).toMatchObject({ a: 60, b: 60, c: 60, version: 181 });
});

it('tells live readers at each instance of every change, in the same order', async () => {
  const readers = await Promise.all(instances.map(({ address }) => listenTo(address, 'huts', { key: dev.serverKey })));
  const writers = ['x', 'y', 'z'].map(async (name) => {
    for (let i = 0; i < 40; i++) await call('PUT', `/data/huts/${name}-${i % 5}`, { name, beds: i });
  });
  await Promise.all(writers);
  const said = (events: (typeof readers)[number]['events']) =>
    events.flatMap(({ data }) => {
      const { id, version } = (data as { record?: { id: string; version: number } } | null)?.record ?? {};
      return id ? [`${id} ${version}`] : [];
    });
  await eventually(() => readers.every(({ events }) => said(events).length >= 120), 60_000);
  const [one, two, three] = readers.map(({ events }) => said(events).slice(-120));
  expect(two).toEqual(one);
  expect(three).toEqual(one);
  expect(new Set(one).size).toBe(120);
  for (const reader of readers) reader.stop();
});

it('knows new collections, fields and imported rows at once at every instance', async () => {
  for (let i = 0; i < 6; i++) {
    expect((await call('PUT', `/data/lakes${i}/one`, { depth: i })).status).toBe(201);
    expect((await call('PATCH', `/data/lakes${i}/one`, { name: `lake ${i}` })).status).toBe(200);
    expect((await call('GET', `/data/lakes${i}/one`)).body).toMatchObject({ depth: i, name: `lake ${i}` });
  }
  const rows = Array.from({ length: 3_000 }, (_, i) => JSON.stringify({ id: `row-${i}`, depth: i })).join('\n');
  const owner = await memberClient(next(), OWNER);
  const params = { ...dev.params, collection: 'lakes0' };
  const reply = await owner.open(operations.collections.importRecords, { params, query: { format: 'ndjson' }, raw: rows });
  expect(await reply.json()).toMatchObject({ stored: 3_000, rejected: 0 });
  expect((await call('GET', '/data/lakes0/row-2999')).body).toMatchObject({ depth: 2_999 });
});

it('knows what a member set up at one instance at the next, at once', async () => {
  const members = await Promise.all(instances.map(({ address }) => memberClient(address, OWNER)));
  const member = () => members[turn++ % members.length] as (typeof members)[number];
  const { params } = dev;
  for (const i of [1, 2, 3]) {
    const upstream = { params: { ...params, upstream: `weather${i}` } };
    await member().call(operations.upstreams.put, { ...upstream, body: { address: 'https://weather.quillfell.example' } as never });
    // It is known, though nobody answers there.
    expect(await member().call(operations.upstreams.check, upstream)).toMatchObject({ ok: false });
    const field = { type: 'choice', choices: ['fell'], changedBy: 'servers' };
    await member().call(operations.accounts.defineField, { params: { ...params, field: `club${i}` }, body: field as never });
    const role = { description: 'Looks after huts', rule: `club${i} = 'fell'` };
    await member().call(operations.userRoles.put, { params: { ...params, role: `warden${i}` }, body: role });
  }
});

it('goes on when a node is killed, takes it back, and loses nothing that was acknowledged', async () => {
  const writer = keepWriting([next, next, next], dev.serverKey);
  await sleep(1_000);
  await cluster.nodes[0]?.kill();
  const before = writer.written.size;
  await eventually(async () => (await fetch(`${instances[0]?.address}/readyz`)).status === 200, 30_000);
  await sleep(2_000);
  await cluster.nodes[0]?.start();
  await sleep(1_000);
  await writer.stop();
  expect(writer.written.size).toBeGreaterThanOrEqual(before);
  // Each refusal is one that says to try again.
  expect(writer.refused.filter(({ status }) => status !== 503)).toEqual([]);
  await expectAll(
    writer.written,
    instances.map(({ address }) => address),
    dev.serverKey,
  );
}, 200_000);

it('does not read from a node that comes back with the data of a while ago, until it has caught up', async () => {
  const node = cluster.nodes[2] as GaleraNode;
  const copy = `${node.data}.copy`;
  await node.stop();
  execFileSync('cp', ['-a', node.data, copy]);
  await node.start();
  for (let i = 0; i < 50; i++) await call('PUT', `/data/huts/since-${i}`, { name: 'since', beds: i });
  await node.kill();
  for (let i = 50; i < 80; i++) await call('PUT', `/data/huts/since-${i}`, { name: 'since', beds: i });
  rmSync(node.data, { recursive: true });
  renameSync(copy, node.data);
  let isBack = false;
  const back = node.start().then(() => (isBack = true));
  for (let i = 0; !isBack; i++) {
    await call('PUT', '/data/huts/meanwhile', { name: 'meanwhile', beds: i });
    for (const { address } of instances)
      expect((await callApp(address, 'GET', '/data/huts/meanwhile', { key: dev.serverKey })).body).toMatchObject({ beds: i });
  }
  await back;
  const database = openDatabase(cluster.url(2, [node.host, node.host, node.host]), { connections: 1 });
  const environment = await instances[0]?.parts.directory.environment(dev.params.app, dev.params.environment);
  const [row] = await database.rows<{ count: number }>(
    `SELECT COUNT(*) AS count FROM ${environment?.db.collection('huts')} WHERE name = 'since'`,
  );
  await database.close();
  expect(Number(row?.count)).toBe(80);
}, 200_000);

it('does not use a node that the others have put out because its data are not theirs', async () => {
  const node = cluster.nodes[2] as GaleraNode;
  await call('PUT', '/data/huts/apart', { name: 'apart', beds: 1 });
  const environment = await instances[0]?.parts.directory.environment(dev.params.app, dev.params.environment);
  const database = openDatabase(cluster.url(2, [node.host]), { connections: 1 });
  await database.run('SET SESSION wsrep_on = OFF');
  await database.run(`DELETE FROM ${environment?.db.collection('huts')} WHERE name = 'apart'`);
  await database.close();
  const change = (beds: number) =>
    callApp(instances[0]?.address as string, 'PUT', '/data/huts/apart', { key: dev.serverKey, body: { name: 'apart', beds } });
  expect((await change(2)).status).toBe(200);
  // It goes on to run, and to answer those who ask how it is.
  await eventually(async () => (await node.status('wsrep_cluster_status')).wsrep_cluster_status === 'Disconnected', 30_000);
  const read = () => callApp(instances[2]?.address as string, 'GET', '/data/huts/apart', { key: dev.serverKey });
  await eventually(async () => (await read()).status === 200, 10_000);
  for (let beds = 3; beds < 30; beds++) {
    expect((await change(beds)).status).toBe(200);
    expect((await read()).body).toMatchObject({ beds });
  }
  await node.kill();
  await node.start();
}, 200_000);

it('does not use a node whose clock is off, whichever way, and goes by the time of the others', async () => {
  const owner = await memberClient(instances[1]?.address as string, OWNER);
  const inUse = async () => (await owner.call(operations.instances.list, {})).items.map(({ database }) => database);
  const [node, ...others] = cluster.nodes as [GaleraNode, GaleraNode, GaleraNode];
  for (const seconds of [900, -900]) {
    await node.stop();
    await node.start(false, seconds);
    // The others go one after another: only the one whose clock is off would be left to go to.
    for (const other of others) {
      await other.stop();
      const { body } = await eventually(async () => {
        const answer = await call('PUT', `/data/huts/clock${seconds}`, { name: 'late', beds: 1 });
        return answer.status < 300 && answer;
      }, 20_000);
      expect(Math.abs(Date.parse(body.updatedAt) - Date.now())).toBeLessThan(5_000);
      await eventually(async () => (await inUse()).every((host) => host !== node.host), 20_000);
      await other.start();
    }
    await node.stop();
    await node.start();
  }
}, 200_000);

it('refuses with 503 while there is no majority, and has everything that was acknowledged when there is one again', async () => {
  const writer = keepWriting([next, next, next], dev.serverKey);
  await sleep(1_000);
  for (const node of cluster.nodes.slice(1)) await node.kill();
  const refused = await eventually(async () => {
    const answer = await call('PUT', '/data/huts/alone', { name: 'alone', beds: 1 }).catch(() => null);
    return answer?.status === 503 && answer;
  }, 60_000);
  expect(Number(refused.headers.get('retry-after'))).toBeGreaterThan(0);
  expect((await fetch(`${instances[0]?.address}/readyz`)).status).toBe(503);
  await writer.stop();
  await cluster.nodes[0]?.kill();
  await cluster.restart();
  await eventually(async () => (await call('GET', '/data/huts/first').catch(() => null))?.status === 200, 60_000);
  await expectAll(
    writer.written,
    instances.map(({ address }) => address),
    dev.serverKey,
  );
}, 300_000);
