/** The change feed on its own: numbers without gaps or steps back, whatever commits in which order, and its end after a time. */
import { setTimeout as sleep } from 'node:timers/promises';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it, vi } from 'vitest';
import type { Environment } from '../src/platform/call.js';
import type { EnvironmentDatabase } from '../src/platform/database/environmentDatabase.js';
import { Feed, type FeedListener, type FeedRow } from '../src/platform/live/feed.js';
import { endEntries, oldestNumber, readEntries, settleFeed } from '../src/platform/live/feedStore.js';
import { feedTable } from '../src/platform/live/tables.js';
import { makeApp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let db: EnvironmentDatabase;

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  ({ db } = (await test.service.parts.directory.environment('quillfell-hiker', 'live')) as Environment);
});
afterAll(() => test.stop());
beforeEach(() => settleFeed(db));

let made = 0;
/** What a trigger writes in the transaction of a change. */
const entry = (on: Pick<EnvironmentDatabase, 'run'>, at = new Date()) =>
  on.run(
    `INSERT INTO ${db.of(feedTable)} (collection, recordId, action, version, at, \`by\`, \`before\`, \`after\`) VALUES ('huts', ?, 'create', 1, ?, '', NULL, '{}')`,
    [`hut-${++made}`, at],
  );
const since = async (after: number) => (await readEntries(db, after, 1_000)).map(({ number, recordId }) => ({ number, recordId }));

describe('numbers', () => {
  it('go up by one, in the order of the entries', async () => {
    const before = await settleFeed(db);
    for (let n = 0; n < 5; n++) await entry(db);
    expect(await settleFeed(db)).toBe(before + 5);
    expect((await since(before)).map(({ number }) => number)).toEqual([1, 2, 3, 4, 5].map((n) => before + n));
  });

  it('are given to what has committed alone, so that a reader misses nothing that commits later', async () => {
    const before = await settleFeed(db);
    let commit = () => {};
    const held = new Promise<void>((resolve) => {
      commit = resolve;
    });
    const slow = db.transaction(async (on) => {
      await entry(on);
      await held;
    });
    await sleep(50);
    await entry(db);
    expect(await settleFeed(db)).toBe(before + 1);
    const [first] = await since(before);
    commit();
    await slow;
    expect(await settleFeed(db)).toBe(before + 2);
    const later = await since(before + 1);
    expect(later).toHaveLength(1);
    expect(later[0]?.recordId).not.toBe(first?.recordId);
  });

  it('are given once, however many instances give them at the same time', async () => {
    const before = await settleFeed(db);
    await Promise.all(Array.from({ length: 60 }, () => entry(db)));
    await Promise.all(Array.from({ length: 6 }, () => settleFeed(db)));
    const numbers = (await since(before)).map(({ number }) => number);
    expect(numbers).toEqual(Array.from({ length: 60 }, (_, n) => before + n + 1));
  });

  it('leave out what was rolled back, without a gap', async () => {
    const before = await settleFeed(db);
    await entry(db);
    await db
      .transaction(async (on) => {
        await entry(on);
        throw new Error('not after all');
      })
      .catch(() => undefined);
    await entry(db);
    expect(await settleFeed(db)).toBe(before + 2);
    expect((await since(before)).map(({ number }) => number)).toEqual([before + 1, before + 2]);
  });

  it('are given to thousands at once', async () => {
    const before = await settleFeed(db);
    const rows = Array.from({ length: 4_500 }, (_, n) => ['huts', `many-${n}`, 'create', 1, new Date(), '', null, '{}']);
    await db.run(`INSERT INTO ${db.of(feedTable)} (collection, recordId, action, version, at, \`by\`, \`before\`, \`after\`) VALUES ?`, [
      rows,
    ]);
    expect(await settleFeed(db)).toBe(before + 4_500);
  });
});

describe('its end', () => {
  it('takes old entries, never the newest, and numbering goes on from it', async () => {
    await db.run(`DELETE FROM ${db.of(feedTable)}`);
    const old = new Date(Date.now() - 86_400_000);
    for (let n = 0; n < 4; n++) await entry(db, old);
    const highest = await settleFeed(db);
    await endEntries(db, new Date());
    expect((await since(0)).map(({ number }) => number)).toEqual([highest]);
    expect(await oldestNumber(db)).toBe(highest);
    await entry(db);
    expect(await settleFeed(db)).toBe(highest + 1);
  });

  it('leaves alone what is young, and what has no number yet', async () => {
    await entry(db, new Date(Date.now() - 86_400_000));
    const pending = await db.rows<{ n: number }>(`SELECT COUNT(*) AS n FROM ${db.of(feedTable)} WHERE number = 0`);
    expect(Number(pending[0]?.n)).toBe(1);
    await endEntries(db, new Date(Date.now() - 3_600_000));
    expect(Number((await db.rows<{ n: number }>(`SELECT COUNT(*) AS n FROM ${db.of(feedTable)} WHERE number = 0`))[0]?.n)).toBe(1);
  });
});

it('has an entry for each change of a record, with what it was and who changed it', async () => {
  const { params, serverKey } = app.live;
  const before = await settleFeed(db);
  await test.owner.call(operations.collections.create, {
    params,
    body: { name: 'huts', fields: [{ name: 'bunks', type: 'integer' }] as never },
  });
  await test.app('PUT', '/data/huts/cold-tarn', { key: serverKey, body: { bunks: 24 } });
  await test.app('PATCH', '/data/huts/cold-tarn', { key: serverKey, body: { bunks: 26 } });
  await test.app('DELETE', '/data/huts/cold-tarn', { key: serverKey });
  await settleFeed(db);
  const entries = (await readEntries(db, before, 1_000)).filter(({ recordId }) => recordId === 'cold-tarn');
  expect(entries.map(({ action, version }) => [action, version])).toEqual([
    ['create', 1],
    ['update', 2],
    ['delete', 3],
  ]);
  const bunks = (image: string | null) => image && JSON.parse(image).bunks;
  expect(entries.map(({ before: was, after }) => [bunks(was), bunks(after)])).toEqual([
    [null, 24],
    [24, 26],
    [26, null],
  ]);
  expect(entries.every(({ by }) => by.length > 0)).toBe(true);
});

describe('listeners', () => {
  const COUNT = 2_000;
  class Reader implements FeedListener {
    readonly taken: number[] = [];
    constructor(
      public position: number,
      public hasRoom = true,
    ) {}
    async take(entries: readonly FeedRow[]): Promise<void> {
      for (const { number } of entries) {
        if (!this.hasRoom || number <= this.position) continue;
        this.taken.push(number);
        this.position = number;
      }
    }
    tick(): void {}
  }
  const numbers = (after: number, until: number) => Array.from({ length: until - after }, (_, i) => after + i + 1);

  it('that are behind each get everything in order, and what they share is read once', async () => {
    const environment = (await test.service.parts.directory.environment('quillfell-hiker', 'live')) as Environment;
    const start = await settleFeed(db);
    for (let n = 0; n < COUNT; n++) await entry(db);
    const end = await settleFeed(db);
    const feed = new Feed(test.service.parts.changes, test.service.parts.log);
    const read = vi.spyOn(feed, 'read');
    // Those of an instance that has ended: near each other, and one that was away for longer.
    const readers = Array.from({ length: 200 }, (_, i) => new Reader(start + 500 + (i % 40)));
    const late = new Reader(start);
    const full = new Reader(start + 700, false);
    const stops = [...readers, late, full].map((reader) => feed.follow(environment, reader));
    await vi.waitFor(() => expect([...readers, late].every(({ position }) => position === end)).toBe(true), 20_000);
    for (const [i, { taken }] of readers.entries()) expect(taken).toEqual(numbers(start + 500 + (i % 40), end));
    expect(late.taken).toEqual(numbers(start, end));
    // At most 256 a read, after the first few that find out how large entries are.
    expect(read.mock.calls.length).toBeLessThan(60);
    full.hasRoom = true;
    await vi.waitFor(() => expect(full.taken).toEqual(numbers(start + 700, end)), 20_000);
    for (const stop of stops) stop();
  });
});
