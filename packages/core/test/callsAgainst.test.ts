/** The requests behind a finding. */
import { describe, expect, it } from 'vitest';
import { callsAgainst, type Evaluated, flatScope, readFilter } from '../src/index.js';

const UNTIL = Date.UTC(2026, 5, 1, 12);
const objective: Evaluated = {
  name: 'one',
  subject: { of: 'calls' },
  measure: { of: 'failed', as: 'share' },
  windowMs: 300_000,
  stressed: 0.1,
  failing: 0.5,
  leastCalls: 1,
  leaveOut: [],
};
const TIMES = "at > TIMESTAMP('2026-06-01T11:55:00.000Z') AND at <= TIMESTAMP('2026-06-01T12:00:00.000Z')";
const scope = flatScope(
  new Map([
    ...['direction', 'method', 'route', 'target', 'client', 'problem'].map((name) => [name, 'text'] as const),
    ...['status', 'durationMs'].map((name) => [name, 'number'] as const),
    ['at', 'time'] as const,
  ]),
);

describe('the calls that count against an objective', () => {
  it.each<[Partial<Evaluated>, string]>([
    [{}, `direction = 'in' AND status >= 500 AND ${TIMES}`],
    [{ measure: { of: 'within', ms: 300 } }, `direction = 'in' AND durationMs > 300 AND ${TIMES}`],
    [{ measure: { of: 'latency', statistic: 'p95' }, stressed: 800 }, `direction = 'in' AND durationMs > 800 AND ${TIMES}`],
    [
      { measure: { of: 'refused' }, leaveOut: ['not-found'], subject: { of: 'client', name: "the guide's" } },
      `client = 'the guide''s' AND status >= 400 AND status < 500 AND (problem IS NULL OR NOT problem IN ('not-found')) AND ${TIMES}`,
    ],
    [
      { subject: { of: 'route', method: 'GET', route: '/app/v1/data/{collection}', target: 'huts' } },
      `method = 'GET' AND route = '/app/v1/data/{collection}' AND target = 'huts' AND status >= 500 AND ${TIMES}`,
    ],
    [
      { subject: { of: 'gateway', name: 'fellpush' }, measure: { of: 'delivered' } },
      `direction = 'out' AND route = 'fellpush' AND problem <> 'address-gone' AND ${TIMES}`,
    ],
    [{ subject: { of: 'gateway' }, measure: { of: 'delivered' } }, `direction = 'out' AND problem <> 'address-gone' AND ${TIMES}`],
  ])('of %j are a filter', (changes, filter) => {
    expect(callsAgainst({ ...objective, ...changes }, UNTIL)).toBe(filter);
    expect(() => readFilter(filter, scope)).not.toThrow();
  });

  it('of jobs are none', () => {
    expect(callsAgainst({ ...objective, subject: { of: 'jobs' }, measure: { of: 'backlog' } }, UNTIL)).toBeNull();
  });
});
