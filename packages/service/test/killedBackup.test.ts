/** A service that is killed again and again while it backs up, proves and restores: it goes on, or leaves nothing behind. */
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import mysql from 'mysql2/promise';
import { expect, it } from 'vitest';
import { startKillable } from './killable.js';
import { callApp, eventually, makeApp } from './support.js';

const own = operations.backups;
const RECORDS = 30_000;
const lines = Array.from({ length: RECORDS }, (_, i) =>
  JSON.stringify({ id: `hut-${i}`, name: `Hut ${i}`, note: `${i} `.repeat(40), beds: i % 40 }),
).join('\n');

it('goes on with a backup, its proof and a restore wherever it is killed', async () => {
  const service = await startKillable('killed-backup', { ORCHARD_BACKUP_KEY: 'd4'.repeat(32) });
  const { dev } = await makeApp(service, 'killed');
  const { params } = dev;
  await service.owner.call(own.changeSettings, { params, body: { schedule: null, keep: { days: 1, weeks: 0, months: 0 }, prove: false } });
  await callApp(service.address, 'PUT', '/data/huts/first', { key: dev.serverKey, body: { name: 'First', note: '', beds: 1 } });
  const imported = await fetch(`${service.address}/manage/v1/apps/killed/environments/dev/collections/huts/import?format=ndjson`, {
    method: 'POST',
    headers: { ...service.headers(), 'content-type': 'application/x-ndjson' },
    body: lines,
  });
  expect(imported.status).toBe(200);
  await callApp(service.address, 'PUT', '/files/ridge.txt', {
    key: dev.serverKey,
    body: 'the ridge',
    headers: { 'content-type': 'text/plain' },
  });

  /** Kills it each time it does something else, until it is through. */
  const killed = async <T extends { doing: string | null }>(
    read: () => Promise<T>,
    runs: (now: T) => boolean,
    kills: number,
  ): Promise<T> => {
    const seen = new Set<string>();
    for (;;) {
      const now = await eventually(() => read().catch(() => null));
      if (!runs(now)) return now;
      const word = now.doing?.replace(/\d+/g, '') ?? '';
      if (!now.doing || seen.has(word) || seen.size >= kills) continue;
      seen.add(word);
      await service.kill();
      await service.restart();
    }
  };
  const { id } = await service.owner.call(own.make, { params, body: {} });
  const readBackup = () => service.owner.call(own.read, { params: { ...params, backup: id } });
  expect(await killed(readBackup, ({ state }) => state === 'running', 2)).toMatchObject({ state: 'done' });
  await service.owner.call(own.prove, { params: { ...params, backup: id } });
  const proved = await killed(readBackup, ({ proof }) => proof === null, 1);
  expect(proved).toMatchObject({ proof: { whole: true } });

  await callApp(service.address, 'PUT', '/data/huts/since', { key: dev.serverKey, body: { name: 'Since', note: '', beds: 1 } });
  const restore = await service.owner.call(own.restore, { params: { ...params, backup: id }, body: {} });
  const readRestore = () => service.owner.call(own.readRestore, { params: { ...params, restore: restore.id } });
  expect(await killed(readRestore, ({ state }) => state === 'running', 3)).toMatchObject({ state: 'done', problem: null });
  expect((await callApp(service.address, 'GET', '/data/huts/since', { key: dev.serverKey })).status).toBe(404);
  expect((await callApp(service.address, 'GET', `/data/huts/hut-${RECORDS - 1}`, { key: dev.serverKey })).body).toMatchObject({
    beds: (RECORDS - 1) % 40,
  });
  expect((await callApp(service.address, 'GET', '/files/ridge.txt', { key: dev.serverKey })).text).toBe('the ridge');

  // What is there: both environments of the app, the one that was replaced, and nothing half-made.
  const { port, password } = JSON.parse(readFileSync(join(service.directory, 'mariadb.json'), 'utf8'));
  const connection = await mysql.createConnection({ host: '127.0.0.1', port, user: 'orchard', password });
  const [databases] = (await connection.query("SHOW DATABASES LIKE 'orchard\\_%'")) as unknown as [object[]];
  await connection.end();
  expect(databases.map((row) => Object.values(row)[0]).filter((name) => name !== 'orchard_installation')).toHaveLength(3);
  expect(readdirSync(join(service.directory, 'backups'), { recursive: true }).filter((name) => String(name).endsWith('.part'))).toEqual([]);
  await service.stop();
}, 400_000);
