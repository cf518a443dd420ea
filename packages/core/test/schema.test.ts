import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  checkField,
  checkFields as check,
  convertValue,
  type Field,
  type Fields,
  type FieldType,
  fromJsonSchema,
  inferFieldType,
  type Json,
  type JsonObject,
  mergePatch,
  toJsonSchema,
} from '../src/index.js';

const fields = (entries: Record<string, FieldType | Field> = {}): Fields =>
  new Map(Object.entries(entries).map(([name, of]) => [name, typeof of === 'string' ? { type: of } : of]));
const NOW = Date.parse('2026-07-14T06:00:00Z');
const checkFields = (collection: string, known: Fields, body: JsonObject, mode: 'open' | 'closed', extent: 'whole' | 'part' = 'part') =>
  check(collection, known, body, { mode, extent, now: NOW, withHidden: true });
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
      'Field `lengthKm` in `trails` must be an integer; got 1.5.',
    );
  });

  it.each([
    ['nights', 'two', 'Field `nights` in `bookings` must be an integer; got "two".'],
    [
      'at',
      { type: 'Point', coordinates: [190, 0] },
      'Field `at` in `bookings` must be a GeoJSON Point; got {"type":"Point","coordinates":[190,0]}.',
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

describe('constraints', () => {
  const bookings = fields({
    hut: { type: 'reference', to: 'huts', required: true },
    nights: { type: 'integer', min: 1, max: 14, default: 1 },
    state: { type: 'choice', choices: ['asked', 'paid'], default: 'asked' },
    code: { type: 'text', pattern: '[A-Z]{2}\\d+', minLength: 3, maxLength: 6 },
    arrives: { type: 'date', min: '2026-01-01' },
    madeAt: { type: 'time', default: 'now()' },
  });
  it('fill in defaults, also the moment of writing, and bring times to UTC', () => {
    expect(checkFields('bookings', bookings, { hut: 'cold-tarn' }, 'closed', 'whole').values).toEqual({
      hut: 'cold-tarn',
      nights: 1,
      state: 'asked',
      madeAt: '2026-07-14T06:00:00.000Z',
    });
    expect(checkFields('bookings', bookings, { madeAt: '2026-07-14T08:00:00+02:00' }, 'closed').values.madeAt).toBe(
      '2026-07-14T06:00:00.000Z',
    );
  });
  it.each<[JsonObject, string]>([
    [{ nights: 0 }, 'Field `nights` in `bookings` must be at least 1; got 0.'],
    [{ nights: 15 }, 'must be at most 14; got 15.'],
    [{ state: 'gone' }, 'must be one of asked, paid; got "gone".'],
    [{ code: 'ab1' }, 'must be text that matches [A-Z]{2}\\d+; got "ab1".'],
    [{ code: 'AB12345' }, 'must be at most 6 characters'],
    [{ arrives: '2025-12-31' }, 'must be at least 2026-01-01'],
    [{ arrives: '2026-02-30' }, 'must be a date; got "2026-02-30".'],
    [{ madeAt: '2026-07-14T06:00:00' }, 'must be a time; got "2026-07-14T06:00:00".'],
    [{ hut: null }, 'Field `hut` in `bookings` is required.'],
    [{ hut: 'a b' }, 'must be the id of a record; got "a b".'],
    [{ code: 'AB\ud800' }, 'must be text; got'],
  ])('refuse %j', (body, problem) =>
    expect(
      checkFields('bookings', bookings, body, 'closed')
        .problems.map((one) => one.problem)
        .join(),
    ).toContain(problem),
  );

  it.each<[Field, string]>([
    [{ type: 'text', min: 3 }, 'A field of type text has no `min`.'],
    [{ type: 'choice' }, 'needs its choices'],
    [{ type: 'reference' }, 'has no target'],
    [{ type: 'reference', to: 'huts', required: true, onDelete: 'clear' }, 'cannot be cleared'],
    [{ type: 'text', pattern: '(' }, 'Invalid regular expression'],
    [{ type: 'integer', default: 'one' }, 'The default of `field` does not fit it'],
    [{ type: 'date', min: '2026-13-01' }, '`min` of `field` is "2026-13-01".'],
  ])('are refused themselves when they make no sense: %j', (field, problem) =>
    expect(checkField('field', field)[0]?.problem).toContain(problem),
  );

  it('are written as JSON Schema and read back the same', () => {
    const schema = toJsonSchema('bookings', bookings, true);
    expect(schema).toMatchObject({
      $schema: 'https://json-schema.org/draft/2020-12/schema',
      required: ['hut'],
      properties: { nights: { type: ['integer', 'null'], minimum: 1, maximum: 14, default: 1 } },
    });
    const { fields: read, problems } = fromJsonSchema(schema);
    expect(problems).toEqual([]);
    expect([...read]).toEqual(
      [...bookings].map(([name, field]) => [name, field.type === 'reference' ? { ...field, onDelete: 'restrict' } : field]),
    );
    expect(fromJsonSchema({ properties: { a: { type: 'string', multipleOf: 3 } } }).problems[0]?.problem).toBe(
      'The keyword `multipleOf` has no meaning for a field here.',
    );
  });

  it.each<[Json, Field, Json | undefined]>([
    ['12', { type: 'integer' }, 12],
    ['12.5', { type: 'integer' }, undefined],
    [12.5, { type: 'text' }, '12.5'],
    ['yes', { type: 'boolean' }, true],
    ['2026-07-14T23:00:00Z', { type: 'date' }, '2026-07-14'],
    ['2026-07-14', { type: 'time' }, '2026-07-14T00:00:00.000Z'],
    ['{"type":"Point","coordinates":[8,61]}', { type: 'place' }, { type: 'Point', coordinates: [8, 61] }],
    ['blue', { type: 'choice', choices: ['red'] }, undefined],
    [null, { type: 'integer' }, null],
  ])('let %j become %j: %j', (value, field, result) => expect(convertValue(value, field)).toEqual(result));
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
