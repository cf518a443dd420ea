/** Starting: several at once, on databases of any age, with one bad environment among many. */
import { cpSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { drizzle } from 'drizzle-orm/mysql2';
import { migrate } from 'drizzle-orm/mysql2/migrator';
import mysql from 'mysql2/promise';
import pino from 'pino';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { readConfig } from '../src/platform/config.js';
import { type RunningService, startService } from '../src/service.js';
import { scratchDirectory } from './scratch.js';
import { callApp, makeApp, startTestService, type TestService } from './support.js';

const SECRET = '11'.repeat(32);
const urlOf = (name: string) => {
  const url = new URL(inject('databaseUrl'));
  url.pathname = `/${name}`;
  return url.toString();
};
const start = (databaseUrl: string, log = pino({ level: 'silent' })) =>
  startService(
    readConfig({
      ORCHARD_PORT: '0',
      ORCHARD_DATA: scratchDirectory('starting'),
      ORCHARD_DATABASE_URL: databaseUrl,
      ORCHARD_SECRET_KEY: SECRET,
    }),
    log,
  );
const isReady = async ({ address }: RunningService) => (await fetch(`${address}/readyz`)).status;

/** A database as the version before left it: without the newest migration of each kind. */
async function makeOld(name: string): Promise<void> {
  const bare = await mysql.createConnection({ uri: urlOf('') });
  for (const [part, database] of [
    ['system', name],
    ['environment', `${name}_installation`],
    ['environment', `${name}_abcdefghij`],
  ] as const) {
    await bare.query(`CREATE DATABASE \`${database}\` CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin`);
    const folder = scratchDirectory('migrations');
    cpSync(fileURLToPath(new URL(`../migrations/${part}`, import.meta.url)), folder, { recursive: true });
    const journal = join(folder, 'meta/_journal.json');
    const known = JSON.parse(readFileSync(journal, 'utf8'));
    writeFileSync(journal, JSON.stringify({ ...known, entries: known.entries.slice(0, -1) }));
    const connection = await mysql.createConnection({ uri: urlOf(database) });
    await migrate(drizzle(connection as never), { migrationsFolder: folder, migrationsTable: '_migrations' });
    await connection.end();
  }
  await bare.query(`INSERT INTO \`${name}\`.apps (name, title, createdAt) VALUES ('old', 'Old', NOW(3))`);
  await bare.query(
    `INSERT INTO \`${name}\`.environments (id, app, name, mode, createdAt) VALUES ('abcdefghij', 'old', 'dev', 'open', NOW(3))`,
  );
  await bare.end();
}

describe('two instances that start at the same moment', () => {
  it.each([
    ['an empty database', async () => undefined],
    ['one of the version before', makeOld],
  ])('both come up on %s', async (what, make) => {
    const name = `start_${what.replace(/\W/g, '_')}_${process.pid}`;
    await make(name);
    const both = await Promise.all([start(urlOf(name)), start(urlOf(name))]);
    expect(await Promise.all(both.map(isReady))).toEqual([200, 200]);
    const [row] = await both[0].parts.database.rows<{ here: string }>('SELECT DATABASE() AS here');
    expect(row?.here, 'the pool stands where it began').toBe(name);
    await Promise.all(both.map((one) => one.stop()));
  });
});

describe('an environment that is broken', () => {
  let test: TestService;
  beforeAll(async () => {
    test = await startTestService(inject('databaseUrl'));
  });
  afterAll(() => test.stop());

  it('keeps neither the start nor the upkeep of the others from theirs, and is counted', async () => {
    const bad = await makeApp(test, 'bad');
    const good = await makeApp(test, 'good');
    await test.app('POST', '/data/huts', { key: good.dev.serverKey, body: { name: 'Fellgate' } });
    const { database, directory } = test.service.parts;
    const broken = await directory.environment('bad', 'dev');
    await database.run(`DROP DATABASE \`${broken.db.name}\``);
    await database.run(`CREATE DATABASE \`${broken.db.name}\``);
    await database.run(`CREATE TABLE \`${broken.db.name}\`._users (id INT)`);
    let log = '';
    const two = await startService(
      { ...test.config, dataDirectory: scratchDirectory('beside'), secretKey: test.service.parts.secretKey },
      pino({ level: 'error' }, { write: (line: string) => void (log += line) }),
    );
    expect(await isReady(two)).toBe(200);
    expect((await callApp(two.address, 'GET', '/data/huts', { key: good.dev.serverKey })).body.items).toHaveLength(1);
    expect((await callApp(two.address, 'GET', '/data/huts', { key: bad.dev.serverKey })).status).toBeGreaterThanOrEqual(404);
    const metrics = await (await fetch(`${two.address}/metrics`)).text();
    expect(metrics).toMatch(/orchard_upkeep_failures_total\{work="[^"]+"\} [1-9]/);
    expect(log).toContain('"name":"dev"');
    await two.stop();
  });
});

describe('metrics', () => {
  it('are for this machine alone, or for who has the token that is set', async () => {
    const test = await startTestService(inject('databaseUrl'), { metricsToken: 'a-token-for-numbers', trustedProxies: 'loopback' });
    const ask = async (headers: Record<string, string>) => (await fetch(`${test.address}/metrics`, { headers })).status;
    expect([
      await ask({}),
      await ask({ authorization: 'Bearer wrong-token-here' }),
      await ask({ authorization: 'Bearer a-token-for-numbers' }),
    ]).toEqual([401, 401, 200]);
    await test.stop();
    const other = await startTestService(inject('databaseUrl'), { trustedProxies: 'loopback' });
    expect((await fetch(`${other.address}/metrics`, { headers: { 'x-forwarded-for': '192.0.2.1' } })).status).toBe(403);
    await other.stop();
  });
});
