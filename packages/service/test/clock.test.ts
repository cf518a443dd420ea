/** The clock of a machine that is off: the service goes by the database's, which all instances share. */
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { DatabaseClock } from '../src/platform/database/clock.js';
import { startTestService, type TestService } from './support.js';

let test: TestService;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
});
afterAll(() => test.stop());

it.each([
  ['two minutes ahead', 120_000],
  ['an hour behind', -3_600_000],
])('that is %s is told once and corrected, until it is right again', async (_, aheadMs) => {
  let off = aheadMs;
  const told: number[] = [];
  const clock = new DatabaseClock(
    test.service.parts.database,
    () => Date.now() + off,
    (behindMs) => told.push(behindMs),
  );
  await clock.compare();
  await clock.compare();
  expect(Math.abs(clock.now() - Date.now())).toBeLessThan(500);
  expect(told).toHaveLength(1);
  expect(Math.abs((told[0] as number) + aheadMs)).toBeLessThan(500);
  off = 0;
  await clock.compare();
  expect(told).toHaveLength(2);
  expect(Math.abs(clock.now() - Date.now())).toBeLessThan(50);
});

it('that differs by less than half a second stays as it is', async () => {
  const clock = new DatabaseClock(test.service.parts.database, () => Date.now() + 200);
  await clock.compare();
  expect(clock.isOff).toBe(false);
  expect(clock.now() - Date.now()).toBeGreaterThan(150);
});
