/** Counts, what objectives take of them, and windows that move on. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  addTally,
  addValue,
  type Count,
  emptyTally,
  isAbout,
  STEPS,
  type Subject,
  stepOf,
  TallyWindow,
  type Tally,
  tallyOf,
} from '../src/index.js';

const MINUTE_MS = 60_000;
const NOON = Date.UTC(2026, 5, 1, 12);
const count = (changes: Partial<Count> = {}): Count => ({
  at: NOON,
  kind: 'call',
  method: 'GET',
  route: '/app/v1/data/{collection}',
  target: 'huts',
  client: 'hiker-ios',
  status: 200,
  problem: '',
  calls: 1,
  sumUs: 3_000,
  histogram: new Map([[50, 1]]),
  ...changes,
});

const tally: fc.Arbitrary<Tally> = fc.array(fc.integer({ min: 1, max: 10_000_000 }), { minLength: 1, maxLength: 20 }).chain((durations) =>
  fc.record({ failed: fc.nat(durations.length), refused: fc.nat(2) }).map(({ failed, refused }) => {
    const one = { ...emptyTally(), calls: durations.length, failed, refused };
    for (const us of durations) {
      addValue(one.histogram, us);
      one.sumUs += us;
    }
    return one;
  }),
);

describe('a subject takes', () => {
  const home = count();
  it.each<[Subject, Partial<Count>, boolean]>([
    [{ of: 'calls' }, {}, true],
    [{ of: 'calls' }, { kind: 'gateway' }, false],
    [{ of: 'client', name: 'hiker-ios' }, {}, true],
    [{ of: 'client', name: 'hiker-ios' }, { client: 'hiker-web' }, false],
    [{ of: 'route', method: 'GET', route: home.route }, { target: 'trails' }, true],
    [{ of: 'route', method: 'GET', route: home.route, target: 'huts' }, {}, true],
    [{ of: 'route', method: 'GET', route: home.route, target: 'huts' }, { target: 'trails' }, false],
    [{ of: 'route', method: 'POST', route: home.route }, {}, false],
    [{ of: 'gateway' }, { kind: 'gateway', route: 'cairn' }, true],
    [{ of: 'gateway', name: 'tarn' }, { kind: 'gateway', route: 'cairn' }, false],
    [{ of: 'jobs' }, { kind: 'job', route: 'send-notification' }, true],
    [{ of: 'jobs', kind: 'import' }, { kind: 'job', route: 'send-notification' }, false],
  ])('%j of %j: %s', (subject, changes, taken) => expect(isAbout(subject, count(changes))).toBe(taken));
});

describe('a count', () => {
  it.each([
    [200, 0, 0],
    [404, 0, 2],
    [503, 2, 0],
    [0, 2, 0],
  ])('with status %d has %d failed and %d refused calls', (status, failed, refused) => {
    expect(tallyOf(count({ status, calls: 2 }), [])).toMatchObject({ calls: 2, failed, refused });
  });

  it('of a problem that is left out is one of answered calls', () => {
    const missing = count({ status: 404, problem: 'not-found' });
    expect(tallyOf(missing, ['not-found'])).toMatchObject({ calls: 1, refused: 0 });
    expect(tallyOf(missing, ['invalid-input'])).toMatchObject({ calls: 1, refused: 1 });
  });
});

it('what was added and taken away again leaves nothing', () => {
  fc.assert(
    fc.property(tally, tally, (one, other) => {
      const sum = emptyTally();
      addTally(sum, one);
      addTally(sum, other);
      addTally(sum, one, -1);
      addTally(sum, other, -1);
      expect(sum).toEqual(emptyTally());
    }),
  );
});

describe('a window', () => {
  it('moves on in steps that are small beside it', () => {
    fc.assert(
      fc.property(fc.integer({ min: MINUTE_MS, max: 30 * 24 * 60 * MINUTE_MS }), (windowMs) => {
        const steps = windowMs / STEPS[stepOf(windowMs)];
        expect(steps).toBeLessThanOrEqual(360);
        expect(steps).toBeGreaterThanOrEqual(6);
      }),
    );
  });

  it('holds what a sum over its steps holds, however it came in', () => {
    const added = fc.array(fc.tuple(fc.integer({ min: 0, max: 20 * MINUTE_MS }), tally), { maxLength: 30 });
    fc.assert(
      fc.property(added, fc.constantFrom(MINUTE_MS, 5 * MINUTE_MS, 60 * MINUTE_MS), (all, windowMs) => {
        const window = new TallyWindow(windowMs);
        let now = NOON;
        for (const [after, one] of all) {
          now = Math.max(now, NOON + after);
          window.add(NOON + after, one);
          window.advance(now);
        }
        const expected = emptyTally();
        for (const [after, one] of all) if (NOON + after >= window.startAt(now)) addTally(expected, one);
        expect(window.total).toEqual(expected);
      }),
    );
  });

  it('tells its latest part apart', () => {
    const window = new TallyWindow(5 * MINUTE_MS);
    for (const second of [0, 100, 250, 295]) window.add(NOON + second * 1000, { ...emptyTally(), calls: 1 });
    expect(window.latest(NOON + 299_000, MINUTE_MS).calls).toBe(2);
    expect(window.latest(NOON + 299_000, 5 * MINUTE_MS).calls).toBe(4);
  });
});
