/** Which backups are kept, and where tables are cut into parts. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { endsPart, keptBackups, PART_LEAST, PART_MOST } from '../src/index.js';

const DAY_MS = 86_400_000;
const NOW = Date.UTC(2026, 4, 20, 12);
const daily = (days: number) => Array.from({ length: days }, (_, i) => ({ id: `d${i}`, at: NOW - i * DAY_MS }));
const rule = fc.record({
  days: fc.integer({ min: 1, max: 30 }),
  weeks: fc.integer({ min: 0, max: 20 }),
  months: fc.integer({ min: 0, max: 24 }),
});
const backups = fc
  .array(fc.integer({ min: 0, max: 900 * 24 }), { minLength: 1, maxLength: 60 })
  .map((hours) => hours.map((ago, i) => ({ id: String(i), at: NOW - ago * 3_600_000 })));

describe('backups that are kept', () => {
  it('are the last days, one of each week and month before them', () => {
    const kept = keptBackups(daily(400), { days: 7, weeks: 4, months: 3 }, NOW);
    expect([...kept].slice(0, 7)).toEqual(['d0', 'd1', 'd2', 'd3', 'd4', 'd5', 'd6']);
    // 2026-05-20 is a Wednesday: the Sundays before it are 3, 10 and 17 days ago; April and March ended 20 and 50 days ago.
    expect([...kept].slice(7)).toEqual(['d10', 'd17', 'd20', 'd50']);
  });

  it('always have the newest among them, never more than the rule says, and stay the same when the rule is applied again', () => {
    fc.assert(
      fc.property(backups, rule, (all, keep) => {
        const kept = keptBackups(all, keep, NOW);
        const newest = Math.max(...all.map(({ at }) => at));
        expect(all.some(({ id, at }) => kept.has(id) && at === newest)).toBe(true);
        expect(kept.size).toBeLessThanOrEqual(1 + keep.days + keep.weeks + keep.months);
        const left = all.filter(({ id }) => kept.has(id));
        expect(keptBackups(left, keep, NOW)).toEqual(kept);
      }),
    );
  });

  it('are no fewer by a rule that keeps more', () => {
    fc.assert(
      fc.property(backups, rule, (all, keep) => {
        const more = keptBackups(all, { days: keep.days + 3, weeks: keep.weeks + 2, months: keep.months + 1 }, NOW);
        for (const id of keptBackups(all, keep, NOW)) expect(more.has(id)).toBe(true);
      }),
    );
  });
});

describe('parts of a table', () => {
  /** Ends of parts, by key, of rows of a length. */
  const cut = (keys: readonly string[], rowLength: number): string[] => {
    const ends: string[] = [];
    let length = 0;
    for (const key of keys) {
      length += rowLength;
      if (!endsPart(key, length)) continue;
      ends.push(key);
      length = 0;
    }
    return ends;
  };
  const keysOf = (count: number) => Array.from({ length: count }, (_, i) => `hut-${String(i).padStart(6, '0')}`);

  it('are between the least and the most', () => {
    fc.assert(
      fc.property(fc.string(), fc.integer({ min: 0, max: 2 * PART_MOST }), (key, length) => {
        if (length < PART_LEAST) expect(endsPart(key, length)).toBe(false);
        if (length >= PART_MOST) expect(endsPart(key, length)).toBe(true);
      }),
    );
  });

  it('are the same again soon after a row that is new', () => {
    const keys = keysOf(60_000);
    const before = cut(keys, 1_000);
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 40_000 }), (at) => {
        const after = cut([...keys.slice(0, at), `${keys[at]}-new`, ...keys.slice(at)], 1_000);
        expect(after.filter((end) => !before.includes(end)).length).toBeLessThanOrEqual(3);
        expect(after.at(-1)).toBe(before.at(-1));
      }),
      { numRuns: 20 },
    );
  });
});
