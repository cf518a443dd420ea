/** The service's calls in the days of a chart of people. */
import { describe, expect, it } from 'vitest';
import { callsByDay, meanOf } from '../src/insight/byDay.js';

const step = (at: string, p95Ms: number | null, serverErrors: number) => ({
  at,
  calls: 10,
  clientErrors: 0,
  serverErrors,
  p50Ms: p95Ms,
  p95Ms,
  p99Ms: p95Ms,
});
/** Days of Oslo in winter begin at 23:00 UTC. */
const DAYS = ['2026-11-01T23:00:00.000Z', '2026-11-02T23:00:00.000Z', '2026-11-03T23:00:00.000Z'];

describe('calls by day', () => {
  it('has the slowest step and all failed calls of each day, in the days of the time zone', () => {
    const steps = [
      step('2026-11-01T18:00:00.000Z', 900, 50),
      step('2026-11-02T00:00:00.000Z', 20, 1),
      step('2026-11-02T18:00:00.000Z', 80, 2),
      step('2026-11-03T00:00:00.000Z', null, 0),
    ];
    expect(callsByDay(DAYS, steps)).toEqual([
      { p95: 80, failed: 3 },
      { p95: null, failed: 0 },
      { p95: null, failed: null },
    ]);
  });

  it('has a mean only where there are days', () => {
    expect([meanOf([]), meanOf([4, 8])]).toEqual([null, 6]);
  });
});
