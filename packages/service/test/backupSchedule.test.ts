/** When the schedule of backups is due. */
import fc from 'fast-check';
import { expect, it } from 'vitest';
import { latestSlot, nextSlot } from '../src/setup/backups/due.js';

const HOUR_MS = 3_600_000;
const at = (iso: string) => Date.parse(iso);

it('names the hour of the day, in UTC', () => {
  const daily = { every: 'day', hour: 3 } as const;
  expect(latestSlot(daily, at('2026-05-01T02:59:59Z'))).toBe(at('2026-04-30T03:00:00Z'));
  expect(latestSlot(daily, at('2026-05-01T03:00:00Z'))).toBe(at('2026-05-01T03:00:00Z'));
  expect(nextSlot(daily, at('2026-05-01T03:00:00Z'))).toBe(at('2026-05-02T03:00:00Z'));
});

it('names Sundays for a weekly one', () => {
  const weekly = { every: 'week', hour: 22 } as const;
  expect(latestSlot(weekly, at('2026-05-03T21:59:59Z'))).toBe(at('2026-04-26T22:00:00Z'));
  expect(nextSlot(weekly, at('2026-05-01T12:00:00Z'))).toBe(at('2026-05-03T22:00:00Z'));
});

it('leaves no moment out: the latest is not after now, and the next one is', () => {
  const schedule = fc.record({ every: fc.constantFrom('day' as const, 'week' as const), hour: fc.integer({ min: 0, max: 23 }) });
  fc.assert(
    fc.property(schedule, fc.integer({ min: 0, max: at('2100-01-01T00:00:00Z') }), (of, now) => {
      const [latest, next] = [latestSlot(of, now), nextSlot(of, now)];
      expect(latest).toBeLessThanOrEqual(now);
      expect(next).toBeGreaterThan(now);
      expect(new Date(latest).getUTCHours()).toBe(of.hour);
      expect(Math.abs(latest % HOUR_MS)).toBe(0);
      if (of.every === 'week') expect(new Date(latest).getUTCDay()).toBe(0);
    }),
  );
});
