/** Days of recorded calls as partitions: made ahead, and dropped as a whole. */
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { keepPartitions } from '../src/platform/database/partitionDdl.js';
import { requestTable } from '../src/operations/telemetry/tables.js';
import type { Environment } from '../src/platform/call.js';
import type { EnvironmentDatabase } from '../src/platform/database/environmentDatabase.js';
import { makeApp, startTestService, type TestService } from './support.js';

let test: TestService;
let db: EnvironmentDatabase;
const DAY_MS = 86_400_000;
const TODAY = Date.now();
const nameOf = (ms: number) => `d${new Date(ms).toISOString().slice(0, 10).replaceAll('-', '')}`;

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  await makeApp(test, 'quillfell-hiker');
  ({ db } = (await test.service.parts.directory.environment('quillfell-hiker', 'live')) as Environment);
});
afterAll(() => test.stop());

async function partitions(): Promise<{ name: string; rows: number }[]> {
  await db.run(`ANALYZE TABLE ${db.of(requestTable)}`);
  return db.rows(
    "SELECT PARTITION_NAME AS name, TABLE_ROWS AS `rows` FROM information_schema.PARTITIONS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = '_requests' ORDER BY PARTITION_ORDINAL_POSITION",
    [db.name],
  );
}
const names = async () => (await partitions()).map(({ name }) => name);
let numbered = 0;
const insertAt = (at: number) =>
  db.run(
    `INSERT INTO ${db.of(requestTable)} (id, at, method, route, path, status, durationUs, databaseUs, statements, trace, span, bytesIn, bytesOut)
     VALUES (?, ?, 'GET', '/x', '/x', 200, 1, 1, 1, '', '', 0, 0)`,
    [`call-${++numbered}`, new Date(at)],
  );

it('has a day for each that is kept, and two to come, before the first call of a day', async () => {
  const days = [-2, -1, 0, 1, 2].map((ahead) => nameOf(TODAY + ahead * DAY_MS));
  expect(await names()).toEqual([...days, 'later']);
});

it('stays the same when it is looked after again', async () => {
  const before = await names();
  await keepPartitions(db, requestTable, TODAY, 2);
  expect(await names()).toEqual(before);
});

it('drops whole days, and with them their calls alone', async () => {
  await insertAt(TODAY - DAY_MS);
  await insertAt(TODAY);
  await keepPartitions(db, requestTable, TODAY + 2 * DAY_MS, 2);
  expect((await names())[0]).toBe(nameOf(TODAY));
  expect(await db.orm.$count(db.table(requestTable))).toBe(1);
});

it('catches up after a pause of weeks, and takes what was written meanwhile into its day', async () => {
  const later = TODAY + 20 * DAY_MS;
  await insertAt(later);
  expect((await partitions()).at(-1)).toMatchObject({ name: 'later', rows: 1 });
  await keepPartitions(db, requestTable, later, 2);
  const found = await partitions();
  expect(found.map(({ name }) => name)).toEqual([...[-2, -1, 0, 1, 2].map((ahead) => nameOf(later + ahead * DAY_MS)), 'later']);
  expect(Number(found.find(({ name }) => name === nameOf(later))?.rows)).toBe(1);
});

it('keeps more days from now on, when more are to be kept', async () => {
  const later = TODAY + 20 * DAY_MS;
  await keepPartitions(db, requestTable, later, 30);
  // Days before the first that is there cannot be added below it; none is lost.
  expect(await names()).toContain(nameOf(later - 2 * DAY_MS));
});
