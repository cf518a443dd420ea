/** Leases: one holder at a time, over several instances on one database. */
import { setTimeout as sleep } from 'node:timers/promises';
import mysql from 'mysql2/promise';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { type Database, openDatabase } from '../src/platform/database/connection.js';
import { Leases } from '../src/platform/database/leases.js';

let database: Database;
let instances: Leases[];

beforeAll(async () => {
  const name = `leases_${Math.random().toString(36).slice(2, 8)}`;
  const url = new URL(inject('databaseUrl'));
  url.pathname = '/';
  const bare = await mysql.createConnection({ uri: url.toString() });
  await bare.query(`CREATE DATABASE ${name}`);
  await bare.end();
  url.pathname = `/${name}`;
  database = openDatabase(url.toString(), { connections: 6 });
  instances = ['a', 'b', 'c'].map((instance) => new Leases(database, instance));
  await (instances[0] as Leases).prepare();
});
afterAll(() => database?.close());

it('lets one in at a time, whichever instance it is', async () => {
  let inside = 0;
  let most = 0;
  let done = 0;
  const work = async () => {
    most = Math.max(most, ++inside);
    await sleep(15);
    inside--;
    done++;
  };
  await Promise.all(instances.flatMap((leases) => Array.from({ length: 6 }, () => leases.with('schema', work))));
  expect([most, done]).toEqual([1, 18]);
});

it('is free again after work that failed', async () => {
  const [a, b] = instances as [Leases, Leases];
  await expect(a.with('fails', () => Promise.reject(new Error('the bridge is out')))).rejects.toThrow('the bridge is out');
  expect(await b.with('fails', async () => 'mine', { waitS: 1 })).toBe('mine');
});

it('tells who waits too long that somebody else is busy', async () => {
  const [a, b] = instances as [Leases, Leases];
  let release = () => {};
  const held = new Promise<void>((resolve) => {
    release = resolve;
  });
  let begun = () => {};
  const isHeld = new Promise<void>((resolve) => {
    begun = resolve;
  });
  const holding = a.with('busy', async () => {
    begun();
    await held;
  });
  await isHeld;
  await expect(b.with('busy', async () => null, { waitS: 0.3 })).rejects.toMatchObject({ problem: 'busy', extras: { retryAfterS: 5 } });
  await expect(a.with('busy', async () => null, { waitS: 0.3 })).rejects.toMatchObject({ problem: 'busy' });
  release();
  await holding;
  expect(await b.with('busy', async () => 'mine')).toBe('mine');
});

it('is not held again by a renewal that comes after it was given back', async () => {
  const [a, b] = instances as [Leases, Leases];
  let owner = '';
  const ownerOf = async () => (await database.rows<{ owner: string }>("SELECT owner FROM leases WHERE name = 'late'"))[0]?.owner ?? '';
  await a.with('late', async () => {
    owner = await ownerOf();
  });
  expect(owner).not.toBe('');
  await database.change('UPDATE leases SET `until` = UTC_TIMESTAMP(3) + INTERVAL 10 SECOND WHERE name = ? AND owner = ?', ['late', owner]);
  expect(await b.with('late', async () => 'mine', { waitS: 1 })).toBe('mine');
});

it('passes on when its holder is gone without a word', async () => {
  await database.change("INSERT INTO leases (name, owner, `until`) VALUES ('orphan', 'gone', UTC_TIMESTAMP(3) + INTERVAL 1 SECOND)");
  expect(await (instances[0] as Leases).with('orphan', async () => 'mine')).toBe('mine');
});
