/** What is kept of single calls: which of them, where their time went, and how they leave as HAR. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  addPacked,
  addValue,
  denseHistogram,
  type Histogram,
  packHistogram,
  sparseHistogram,
  packTimeline,
  Sampler,
  SAMPLING,
  statementWords,
  unpackTimeline,
  writeHar,
} from '../src/index.js';

describe('of many calls in a minute', () => {
  const kept = (calls: number, problem: string | null, durationUs = 1_000) => {
    const sampler = new Sampler();
    return Array.from({ length: calls }, () => sampler.take(60_000, problem, durationUs)).filter(Boolean);
  };

  it('all are kept up to a bound, and one in twenty beyond', () => {
    expect(kept(SAMPLING.ordinary, null)).toHaveLength(SAMPLING.ordinary);
    expect(kept(SAMPLING.ordinary + 200, null)).toHaveLength(SAMPLING.ordinary + 10);
    expect(kept(SAMPLING.each + 40, 'not-found')).toHaveLength(SAMPLING.each + 2);
    expect(kept(SAMPLING.each + 40, null, 2_000_000)).toHaveLength(SAMPLING.each + 2);
  });

  it('those kept stand for about all of them', () => {
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 10_000 }), fc.constantFrom(null, 'invalid-input'), (calls, problem) => {
        const sum = kept(calls, problem).reduce((all, one) => all + one, 0);
        expect(sum).toBeLessThanOrEqual(calls);
        expect(calls - sum).toBeLessThan(SAMPLING.oneIn);
      }),
    );
  });

  it('one problem does not crowd out another, nor the next minute', () => {
    const sampler = new Sampler();
    for (let i = 0; i < 1_000; i++) sampler.take(60_000, 'not-found', 1);
    expect(sampler.take(60_000, 'invalid-input', 1)).toBe(1);
    expect(sampler.take(120_000, 'not-found', 1)).toBe(1);
  });
});

it('a timeline comes back as it was packed', () => {
  const span = fc.record(
    { step: fc.string(), startUs: fc.nat(), durationUs: fc.nat(), detail: fc.string() },
    { requiredKeys: ['step', 'startUs', 'durationUs'] },
  );
  fc.assert(fc.property(fc.array(span), (spans) => void expect(unpackTimeline(packTimeline(spans))).toEqual(spans)));
});

it.each([
  ['SELECT * FROM `orchard_abc`.`huts` WHERE id = ?', 'SELECT huts'],
  ['INSERT INTO `orchard_abc`.`_jobs` (id) VALUES (?)', 'INSERT _jobs'],
  ['update `orchard_abc`.`bookings` set x = 1', 'UPDATE bookings'],
  ['COMMIT', 'COMMIT'],
])('a statement in words: %s', (sql, words) => expect(statementWords(sql)).toBe(words));

it('a HAR entry says what was recorded, and -1 where nothing was', () => {
  const recorded = {
    id: 'one',
    at: '2026-06-01T12:00:00.000Z',
    method: 'POST',
    url: 'http://localhost:7450/app/v1/data/huts?filter=bunks%20%3E%202',
    status: 422,
    problem: 'invalid-input',
    durationMs: 3.2,
    bytesIn: 13,
    bytesOut: 320,
    headers: { request: { 'content-type': 'application/json' }, response: {} },
    bodies: { request: '{"bunks":"x"}', response: null },
  };
  const { log } = writeHar([recorded], '0.1.0') as { log: { version: string; entries: Record<string, never>[] } };
  expect(log.version).toBe('1.2');
  expect(log.entries[0]).toMatchObject({
    time: 3.2,
    request: { queryString: [{ name: 'filter', value: 'bunks > 2' }], postData: { text: '{"bunks":"x"}' }, bodySize: 13 },
    response: { status: 422, content: { size: 320 } },
    timings: { wait: 3.2, dns: -1 },
  });
});

it('a sum of packed histograms is the histogram of all values', () => {
  const values = fc.array(fc.integer({ min: 0, max: 5_000_000_000 }), { maxLength: 50 });
  fc.assert(
    fc.property(fc.array(values, { maxLength: 8 }), (parts) => {
      const sum = denseHistogram();
      const all: Histogram = new Map();
      for (const part of parts) {
        const one: Histogram = new Map();
        for (const value of part) {
          addValue(one, value);
          addValue(all, value);
        }
        addPacked(sum, packHistogram(one));
      }
      expect([...sparseHistogram(sum)].sort()).toEqual([...all].sort());
    }),
  );
});
