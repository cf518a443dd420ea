import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  addValue,
  backOffMs,
  bucketOf,
  bucketStart,
  chooseStep,
  delimiterOf,
  formatKey,
  type Histogram,
  mergeInto,
  packHistogram,
  quantiles,
  readKey,
  readRetryAfter,
  readTraceparent,
  stepStarts,
  unpackHistogram,
  uuidv7,
  writeTraceparent,
} from '../src/index.js';

const random16 = fc.uint8Array({ minLength: 16, maxLength: 16 });

describe('keys', () => {
  it('are told from mistyped ones: any one letter changed, left out or doubled', () => {
    fc.assert(
      fc.property(
        random16,
        fc.constantFrom('client' as const, 'server' as const),
        fc.nat(37),
        fc.constantFrom('0', '7', 'z'),
        (random, kind, at, letter) => {
          const key = formatKey(kind, random);
          expect(readKey(key)).toEqual({ ok: true, kind });
          for (const wrong of [
            key.slice(0, at) + letter + key.slice(at + 1),
            key.slice(0, at) + key.slice(at + 1),
            key.slice(0, at) + key[at] + key.slice(at),
          ]) {
            if (wrong !== key) expect(readKey(wrong).ok).toBe(false);
          }
        },
      ),
    );
  });

  it('are told from what is no key of ours', () => expect(readKey('hello')).toEqual({ ok: false, reason: 'shape' }));
});

it('makes UUIDs of version 7 that sort by time', () => {
  fc.assert(
    fc.property(fc.nat(2 ** 44), fc.nat(1000), random16, random16, (at, later, a, b) => {
      const [first, second] = [uuidv7(at, a), uuidv7(at + later + 1, b)];
      expect(first).toMatch(/^[0-9a-f]{8}-[0-9a-f]{4}-7[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$/);
      expect(first < second).toBe(true);
    }),
  );
});

describe('latency histograms', () => {
  const values = fc.array(fc.nat(60_000_000), { minLength: 1, maxLength: 300 });
  const histogramOf = (list: number[]) => list.reduce<Histogram>((histogram, value) => (addValue(histogram, value), histogram), new Map());

  it('put each value into the bucket around it, an eighth wide at most', () => {
    fc.assert(
      fc.property(fc.nat(4_000_000_000), (value) => {
        const bucket = bucketOf(value);
        expect(bucketStart(bucket)).toBeLessThanOrEqual(value);
        expect(bucketStart(bucket + 1)).toBeGreaterThan(value);
        expect(bucketStart(bucket + 1) - bucketStart(bucket)).toBeLessThanOrEqual(Math.max(1, value / 8));
      }),
    );
  });

  it('give quantiles within an eighth of the exact ones', () => {
    fc.assert(
      fc.property(values, fc.constantFrom(0.5, 0.95, 0.99), (list, share) => {
        const exact = [...list].sort((a, b) => a - b)[Math.max(0, Math.ceil(share * list.length) - 1)] as number;
        const [found] = quantiles(histogramOf(list), [share]) as [number];
        expect(Math.abs(found - exact)).toBeLessThanOrEqual(exact / 8 + 1);
      }),
    );
  });

  it('merge as if all values had been added to one, also after storing', () => {
    fc.assert(
      fc.property(values, values, (a, b) => {
        const merged = histogramOf(a);
        mergeInto(merged, unpackHistogram(packHistogram(histogramOf(b))));
        expect(new Map([...merged].sort())).toEqual(new Map([...histogramOf([...a, ...b])].sort()));
      }),
    );
  });

  it('know no quantile of nothing', () => expect(quantiles(new Map(), [0.5])).toEqual([null]));
});

it('divides any stretch into at most 120 steps that cover it', () => {
  fc.assert(
    fc.property(fc.nat(2 ** 40), fc.integer({ min: 60_000, max: 90 * 86_400_000 }), (from, length) => {
      const step = chooseStep(from, from + length);
      const starts = stepStarts(from, from + length, step);
      expect(starts.length).toBeLessThanOrEqual(122);
      expect(starts[0]).toBeLessThanOrEqual(from);
      expect((starts.at(-1) as number) + step).toBeGreaterThanOrEqual(from + length);
    }),
  );
});

describe('traceparent', () => {
  const header = '00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01';
  it('is read and written unchanged', () => expect(writeTraceparent(readTraceparent(header) as never)).toBe(header));
  it('of a later version is read by its first parts', () =>
    expect(readTraceparent(`cc${header.slice(2)}-what-comes`)?.traceId).toBe('4bf92f3577b34da6a3ce929d0e0e4736'));
  it.each([
    '',
    'ff-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01',
    `${header}-more`,
    header.toUpperCase(),
    header.replace('4bf92f3577b34da6a3ce929d0e0e4736', '0'.repeat(32)),
  ])('that is malformed is ignored: %s', (wrong) => expect(readTraceparent(wrong)).toBeNull());
});

describe('CSV headers', () => {
  const cell = fc.stringMatching(/^[A-Za-z ]{1,8}$/);
  it('show what stands between their cells, also where quoted names hold other delimiters', () => {
    fc.assert(
      fc.property(fc.array(cell, { minLength: 2, maxLength: 9 }), fc.constantFrom(',', ';', '\t', '|'), (cells, delimiter) => {
        expect(delimiterOf(['"a, b; c | d"', ...cells].join(delimiter))).toBe(delimiter);
      }),
    );
  });
});

describe('retrying', () => {
  it('waits longer each time, up to an hour and a quarter', () => {
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 30 }), fc.double({ min: 0, max: 1, noNaN: true }), (attempt, random) => {
        expect(backOffMs(attempt, random)).toBeGreaterThanOrEqual(Math.min(2000 * 2 ** (attempt - 1), 3_600_000));
        expect(backOffMs(attempt, random)).toBeLessThanOrEqual(4_500_000);
      }),
    );
  });
  it.each([
    ['120', 120_000],
    ['Thu, 01 Jan 1970 00:01:40 GMT', 40_000],
    ['soon', null],
    [undefined, null],
  ])('reads Retry-After: %s as %s ms', (text, wait) => expect(readRetryAfter(text, 60_000)).toBe(wait));
});
