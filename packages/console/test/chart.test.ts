import { expect, it } from 'vitest';
import { pointedAt, withUnfinished } from '../src/parts/unfinished.js';

const MINUTE = 60_000;
const START = Date.UTC(2026, 5, 1, 12);
const at = (step: number) => new Date(START + step * MINUTE).toISOString();
const rows = [0, 1, 2].map((step) => ({ at: at(step), calls: 10 + step }));
const series = [{ name: 'calls' }];

it('draws a step that is not over as a series of its own, and a line from the step before it', () => {
  const now = START + 2.5 * MINUTE;
  expect(withUnfinished(rows, series, MINUTE, 'bar', now)).toEqual([
    { at: at(0), calls: 10 },
    { at: at(1), calls: 11 },
    { at: at(2), calls: null, 'calls so far': 12 },
  ]);
  expect(withUnfinished(rows, series, MINUTE, 'line', now)[1]).toEqual({ at: at(1), calls: 11, 'calls so far': 11 });
});

it('leaves steps that are over as they are, and does without any', () => {
  expect(withUnfinished(rows, series, MINUTE, 'line', START + 3 * MINUTE)).toBe(rows);
  expect(withUnfinished([], series, MINUTE, 'bar', START)).toEqual([]);
  expect(withUnfinished(rows.slice(0, 1), series, MINUTE, 'line', START)).toEqual([{ at: at(0), calls: null, 'calls so far': 10 }]);
});

it('names a figure once under the cursor', () => {
  const both = [
    { name: 'calls', value: 11 },
    { name: 'calls so far', value: 11 },
  ];
  expect(pointedAt(both)).toEqual(both.slice(0, 1));
  expect(pointedAt([{ name: 'calls', value: null }, both[1] as object])).toEqual(both.slice(1));
});
