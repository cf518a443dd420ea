import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { checkFields, type FieldType, inferFieldType, type Json, mergePatch } from '../src/index.js';

const fields = (entries: Record<string, FieldType> = {}) => new Map(Object.entries(entries));
const json = () => fc.jsonValue({ maxDepth: 3 }) as fc.Arbitrary<Json>;

describe('fields of a write', () => {
  it.each<[Json, FieldType | null]>([
    ['Cold Tarn', 'text'],
    [12, 'integer'],
    [1.5, 'number'],
    [true, 'boolean'],
    [['a'], 'list'],
    [{ a: 1 }, 'object'],
    [null, null],
    [{ type: 'Point', coordinates: [8.3, 61.3] }, 'place'],
    [2 ** 53, 'number'],
  ])('takes %j as %s', (value, type) => expect(inferFieldType(value)).toBe(type));

  it('fits every later value of the type it was inferred from', () => {
    fc.assert(
      fc.property(json(), (value) => {
        const { added, problems } = checkFields('things', fields(), { field: value }, 'open');
        if (problems.length === 0)
          expect(checkFields('things', added, { field: value }, 'closed').problems.filter(() => value !== null)).toEqual([]);
      }),
    );
  });

  it('widens integers to numbers in an open environment only', () => {
    const known = fields({ lengthKm: 'integer' });
    expect(checkFields('trails', known, { lengthKm: 1.5 }, 'open').widened).toEqual(['lengthKm']);
    expect(checkFields('trails', known, { lengthKm: 1.5 }, 'closed').problems[0]?.problem).toBe(
      'Field `lengthKm` in `trails` takes an integer; got 1.5.',
    );
  });

  it.each([
    ['nights', 'two', 'Field `nights` in `bookings` takes an integer; got "two".'],
    [
      'at',
      { type: 'Point', coordinates: [190, 0] },
      'Field `at` in `bookings` takes a GeoJSON Point; got {"type":"Point","coordinates":[190,0]}.',
    ],
    ['Nights', 1, '"Nights" cannot be a field name.'],
    ['version', 3, '`version` is set by the service and cannot be written.'],
    ['nIghts', 1, '`nIghts` differs from the field `nights` only by case.'],
    ['a$b', 1, '"a$b" cannot be a field name.'],
    ['ridge.state', 1, '"ridge.state" cannot be a field name.'],
    ["o'hut", 1, `"o'hut" cannot be a field name.`],
    ['🏔', 1, '"🏔" cannot be a field name.'],
  ])('refuses %s = %j in words', (name, value, problem) => {
    expect(
      checkFields('bookings', fields({ nights: 'integer', at: 'place' }), { [name]: value }, 'open').problems.map((found) => found.problem),
    ).toEqual([problem]);
  });

  it('names the fields there are when a closed environment does not know one', () => {
    expect(checkFields('huts', fields({ name: 'text', bunks: 'integer' }), { beds: 3 }, 'closed').problems).toEqual([
      { path: 'beds', problem: '`huts` has no field `beds`.', expected: 'one of: bunks, name' },
    ]);
  });

  it('takes 200 fields and no more', () => {
    const body = (count: number) => Object.fromEntries(Array.from({ length: count }, (_, i) => [`f${i}`, i]));
    expect(checkFields('wide', fields(), body(200), 'open').problems).toEqual([]);
    expect(checkFields('wide', fields(), body(201), 'open').problems[0]?.problem).toContain('at most 200');
  });

  it('refuses values nested deeper than the database reads', () => {
    let deep: Json = 1;
    for (let i = 0; i < 5000; i++) deep = [deep];
    expect(checkFields('things', fields({ list: 'list' }), { list: deep }, 'open').problems).toHaveLength(1);
  });
});

describe('merge patch', () => {
  // RFC 7396 appendix A, all of it.
  it.each<[Json, Json, Json]>([
    [{ a: 'b' }, { a: 'c' }, { a: 'c' }],
    [{ a: 'b' }, { b: 'c' }, { a: 'b', b: 'c' }],
    [{ a: 'b' }, { a: null }, {}],
    [{ a: 'b', b: 'c' }, { a: null }, { b: 'c' }],
    [{ a: ['b'] }, { a: 'c' }, { a: 'c' }],
    [{ a: 'c' }, { a: ['b'] }, { a: ['b'] }],
    [{ a: { b: 'c' } }, { a: { b: 'd', c: null } }, { a: { b: 'd' } }],
    [{ a: [{ b: 'c' }] }, { a: [1] }, { a: [1] }],
    [
      ['a', 'b'],
      ['c', 'd'],
      ['c', 'd'],
    ],
    [{ a: 'b' }, ['c'], ['c']],
    [{ a: 'foo' }, null, null],
    [{ a: 'foo' }, 'bar', 'bar'],
    [{ e: null }, { a: 1 }, { e: null, a: 1 }],
    [[1, 2], { a: 'b', c: null }, { a: 'b' }],
    [{}, { a: { bb: { ccc: null } } }, { a: { bb: {} } }],
  ])('%j patched with %j is %j', (target, patch, result) => expect(mergePatch(target, patch)).toEqual(result));

  it('changes neither argument, and a second time nothing', () => {
    fc.assert(
      fc.property(json(), json(), (target, patch) => {
        const before = JSON.stringify([target, patch]);
        const once = mergePatch(target, patch);
        expect(mergePatch(once, patch)).toEqual(once);
        expect(JSON.stringify([target, patch])).toBe(before);
      }),
    );
  });
});
