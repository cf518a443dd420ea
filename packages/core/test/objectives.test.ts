/** Objectives and the condition that follows from them. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  addValue,
  budgetOf,
  CONDITIONS,
  type EnvironmentCondition,
  conditionBy,
  DAMPING_MS,
  emptyTally,
  fillOf,
  isHigherWorse,
  type Limits,
  levelOf,
  limitFaults,
  type Measure,
  nearness,
  NOTCHES,
  settle,
  settled,
  type Tally,
  measured,
  worstOf,
} from '../src/index.js';

/** A window with calls of these durations, in milliseconds. */
function tallyOf(durations: readonly number[], { failed = 0, refused = 0 } = {}): Tally {
  const tally = { ...emptyTally(), calls: durations.length, failed, refused };
  for (const ms of durations) {
    addValue(tally.histogram, ms * 1000);
    tally.sumUs += ms * 1000;
  }
  return tally;
}
const P95: Measure = { of: 'latency', statistic: 'p95' };
const SHARES: Measure[] = [{ of: 'within', ms: 300 }, { of: 'failed', as: 'share' }, { of: 'refused' }, { of: 'delivered' }];
const measure: fc.Arbitrary<Measure> = fc.constantFrom<Measure>(P95, { of: 'failed', as: 'count' }, { of: 'backlog' }, ...SHARES);
const durations = fc.array(fc.integer({ min: 1, max: 60_000 }), { minLength: 1, maxLength: 200 });

describe('the value of a measure', () => {
  it.each([
    [{ of: 'latency', statistic: 'mean' }, 55],
    [{ of: 'failed', as: 'count' }, 2],
    [{ of: 'failed', as: 'share' }, 0.2],
    [{ of: 'refused' }, 0.3],
    [{ of: 'delivered' }, 0.8],
    [{ of: 'backlog' }, null],
  ] as [Measure, number | null][])('of ten calls: %j', (of, value) => {
    const tally = tallyOf([10, 20, 30, 40, 50, 60, 70, 80, 90, 100], { failed: 2, refused: 3 });
    if (value === null) expect(measured(of, tally)).toBeNull();
    else expect(measured(of, tally)).toBeCloseTo(value);
  });

  it('of no calls is none', () => {
    fc.assert(fc.property(measure, (of) => void expect(measured(of, emptyTally())).toBeNull()));
  });

  it('quantiles and the share within a time agree, as far as buckets allow', () => {
    fc.assert(
      fc.property(durations, (all) => {
        const tally = tallyOf(all);
        const p95 = measured(P95, tally) as number;
        // A bucket is at most an eighth wide.
        expect(measured({ of: 'within', ms: p95 * 1.13 }, tally)).toBeGreaterThanOrEqual(0.949);
        expect(measured({ of: 'within', ms: Math.max(...all) * 1.13 }, tally)).toBeCloseTo(1);
      }),
    );
  });

  it('within more time more calls are answered', () => {
    fc.assert(
      fc.property(durations, fc.integer({ min: 1, max: 60_000 }), fc.integer({ min: 0, max: 60_000 }), (all, ms, more) => {
        const tally = tallyOf(all);
        const share = (of: number) => measured({ of: 'within', ms: of }, tally) as number;
        expect(share(ms + more)).toBeGreaterThanOrEqual(share(ms));
      }),
    );
  });
});

describe('the level of a value', () => {
  const slow: Limits = { measure: P95, stressed: 300, failing: 1000, leastCalls: 10 };
  const sure: Limits = { measure: { of: 'within', ms: 300 }, stressed: 0.99, failing: 0.9, leastCalls: 10 };

  it.each([
    [slow, 299, 'thriving'],
    [slow, 300, 'thriving'],
    [slow, 301, 'stressed'],
    [slow, 1000, 'stressed'],
    [slow, 1001, 'failing'],
    [sure, 1, 'thriving'],
    [sure, 0.99, 'thriving'],
    [sure, 0.98, 'stressed'],
    [sure, 0.89, 'failing'],
  ] as [Limits, number, EnvironmentCondition][])('%j: %d is %s', (limits, value, level) => expect(levelOf(limits, value)).toBe(level));

  it('is said only with enough calls', () => {
    expect(conditionBy(slow, tallyOf(Array.from({ length: 9 }, () => 5_000)))).toBe('dormant');
    expect(conditionBy(slow, tallyOf(Array.from({ length: 10 }, () => 5_000)))).toBe('failing');
    expect(conditionBy(slow, emptyTally())).toBe('dormant');
  });

  it('never gets better while the value gets worse', () => {
    fc.assert(
      fc.property(measure, fc.double({ min: 0, max: 1, noNaN: true }), fc.double({ min: 0, max: 1, noNaN: true }), (of, one, other) => {
        const limits = isHigherWorse(of) ? { stressed: 0.3, failing: 0.6 } : { stressed: 0.6, failing: 0.3 };
        const [better, worse] = one < other === isHigherWorse(of) ? [one, other] : [other, one];
        const rank = (value: number) => CONDITIONS.indexOf(levelOf({ measure: of, leastCalls: 0, ...limits }, value));
        expect(rank(worse)).toBeGreaterThanOrEqual(rank(better));
      }),
    );
  });

  it.each([
    [slow, 150, 0.5],
    [slow, 300, 1],
    [slow, 500, 0.5],
    [slow, 2000, 2],
    [sure, 0.995, 0.5],
    [sure, 0.95, 0.5],
  ] as [Limits, number, number][])('%j: %d is as near to its next limit as %d', (limits, value, near) => {
    expect(nearness(limits, value)).toBeCloseTo(near);
  });
});

describe('a bar', () => {
  const limits = { measure: P95, stressed: 300, failing: 1000 };
  it.each([
    [0, 0],
    [150, 0.3],
    [300, NOTCHES.stressed],
    [650, 0.75],
    [1000, NOTCHES.failing],
    [100_000, 1],
  ])('is filled by %d as far as %d', (value, fill) => expect(fillOf(limits, value)).toBeCloseTo(fill));

  it('fills as a share that must stay high falls', () => {
    const share = { measure: { of: 'within', ms: 300 } as Measure, stressed: 0.9, failing: 0.5 };
    expect([1, 0.95, 0.9, 0.7, 0.5].map((value) => fillOf(share, value).toFixed(2))).toEqual(['0.00', '0.30', '0.60', '0.75', '0.90']);
  });
});

it('the worst of several counts, and silence only where all are silent', () => {
  const condition = fc.constantFrom(...CONDITIONS);
  fc.assert(
    fc.property(fc.array(condition), (all) => {
      const worst = worstOf(all);
      expect(all.length === 0 ? worst === 'dormant' : all.includes(worst)).toBe(true);
      for (const one of all) expect(CONDITIONS.indexOf(worst)).toBeGreaterThanOrEqual(CONDITIONS.indexOf(one));
    }),
  );
});

describe('the numbers of an objective', () => {
  const good = { measure: P95, stressed: 300, failing: 1000, leastCalls: 20, windowMs: 300_000 };

  it('are fine as they should be', () => {
    expect(limitFaults(good)).toEqual([]);
    expect(limitFaults({ ...good, measure: { of: 'within', ms: 300 }, stressed: 0.99, failing: 0.95 })).toEqual([]);
  });

  it.each([
    [{ windowMs: 0 }, 'windowMs'],
    [{ windowMs: 31 * 86_400_000 }, 'windowMs'],
    [{ stressed: 1000, failing: 300 }, 'failing'],
    [{ stressed: 300, failing: 300 }, 'failing'],
    [{ stressed: -1 }, 'stressed'],
    [{ leastCalls: 1.5 }, 'leastCalls'],
    [{ measure: { of: 'within', ms: 0 }, stressed: 0.99, failing: 0.9 }, 'measure.ms'],
    [{ measure: { of: 'within', ms: 300 }, stressed: 0.9, failing: 0.99 }, 'failing'],
    [{ measure: { of: 'refused' }, stressed: 0.1, failing: 20 }, 'failing'],
    [{ windowMs: Number.NaN }, 'windowMs'],
  ] as [object, string][])('%j: the fault is at %s', (changes, path) => {
    expect(limitFaults({ ...good, ...changes }).map((fault) => fault.path)).toContain(path);
  });
});

describe('a condition', () => {
  /** The conditions shown while evaluations every ten seconds see these. */
  const shown = (start: EnvironmentCondition, seen: readonly EnvironmentCondition[]): EnvironmentCondition[] => {
    let state = settled(start, 0);
    return seen.map((one, i) => {
      state = settle(state, one, (i + 1) * 10_000);
      return state.condition;
    });
  };

  it('becomes worse once that has held for ten seconds, and better after 60', () => {
    expect(shown('thriving', ['failing', 'failing', 'failing'])).toEqual(['thriving', 'failing', 'failing']);
    const better = shown(
      'failing',
      Array.from({ length: 7 }, () => 'thriving' as const),
    );
    expect(better).toEqual(['failing', 'failing', 'failing', 'failing', 'failing', 'failing', 'thriving']);
  });

  it('does not flicker with one bad cell in six', () => {
    const seen = Array.from({ length: 60 }, (_, i) => (i % 6 === 0 ? 'failing' : 'thriving') as EnvironmentCondition);
    expect(new Set(shown('thriving', seen))).toEqual(new Set(['thriving']));
  });

  it('began when it was first seen, not when it was first shown', () => {
    let state = settled('thriving', 0);
    for (const at of [10_000, 20_000, 30_000]) state = settle(state, 'stressed', at);
    expect(state).toMatchObject({ condition: 'stressed', since: 10_000 });
  });

  it('stays as it is while the same is seen, and never shows what was not seen for its time', () => {
    const condition = fc.constantFrom(...CONDITIONS);
    fc.assert(
      fc.property(condition, fc.array(condition, { maxLength: 40 }), (start, seen) => {
        const all = shown(start, seen);
        for (const [i, now] of all.entries()) {
          const before = i === 0 ? start : (all[i - 1] as EnvironmentCondition);
          if (now === before) continue;
          const isWorse = CONDITIONS.indexOf(now) > CONDITIONS.indexOf(before);
          const cells = (isWorse ? DAMPING_MS.worse : DAMPING_MS.better) / 10_000 + 1;
          expect(seen.slice(i + 1 - cells, i + 1)).toEqual(Array.from({ length: cells }, () => now));
        }
      }),
    );
  });
});

describe('an error budget', () => {
  const within: Measure = { of: 'within', ms: 300 };

  it.each([
    [within, 0.99, tallyOf([...Array.from({ length: 99 }, () => 10), 9_000]), 1],
    [within, 0.9, tallyOf([...Array.from({ length: 99 }, () => 10), 9_000]), 0.1],
    [
      { of: 'failed', as: 'share' },
      0.02,
      tallyOf(
        Array.from({ length: 100 }, () => 10),
        { failed: 1 },
      ),
      0.5,
    ],
    [{ of: 'failed', as: 'share' }, 0, tallyOf([10], { failed: 0 }), 0],
    [{ of: 'failed', as: 'share' }, 0, tallyOf([10], { failed: 1 }), Number.POSITIVE_INFINITY],
  ] as [Measure, number, Tally, number][])('%j with the limit %d', (of, limit, tally, spent) => {
    expect(budgetOf(of, limit, tally)?.spent).toBeCloseTo(spent);
  });

  it('there is none for what is no share', () => {
    expect(budgetOf(P95, 300, tallyOf([10]))).toBeNull();
    expect(budgetOf(within, 0.99, emptyTally())).toBeNull();
  });
});
