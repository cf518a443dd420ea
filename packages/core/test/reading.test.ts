/** Reading texts: dates, times, places, columns of files, patterns and documents. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  countCells,
  delimiterOf,
  formOf,
  grouped,
  guessType,
  isPlace,
  type ListForm,
  matcherOf,
  PatternError,
  proposeIndex,
  readDate,
  readFilter,
  readTime,
  servingIndex,
} from '../src/index.js';
import { describeJson } from '../src/messages/index.js';

describe('dates', () => {
  it('are read where such a day exists, as JavaScript knows it', () => {
    fc.assert(
      fc.property(
        fc.integer({ min: 1000, max: 9999 }),
        fc.integer({ min: 0, max: 13 }),
        fc.integer({ min: 0, max: 32 }),
        (year, month, day) => {
          const text = `${year}-${String(month).padStart(2, '0')}-${String(day).padStart(2, '0')}`;
          const at = new Date(Date.UTC(year, month - 1, day));
          const exists = at.getUTCMonth() === month - 1 && at.getUTCDate() === day;
          expect(readDate(text)).toBe(exists ? at.getTime() : null);
        },
      ),
    );
  });

  it.each(['2026-7-14', '26-07-14', '2026-07-14T00:00:00Z', '0999-12-31', ' 2026-07-14', ''])('%j is not one', (text) =>
    expect(readDate(text)).toBeNull(),
  );
});

describe('times', () => {
  it('are the same moment, whatever the zone they are written in', () => {
    const zone = fc.tuple(fc.constantFrom('+', '-'), fc.integer({ min: 0, max: 14 }), fc.constantFrom(0, 15, 30, 45));
    const moment = fc.integer({ min: Date.UTC(1000, 0, 2), max: Date.UTC(9999, 11, 30) });
    fc.assert(
      fc.property(moment, zone, (at, [sign, hours, minutes]) => {
        const offset = (hours * 60 + minutes) * 60_000 * (sign === '+' ? 1 : -1);
        const written = new Date(at + offset)
          .toISOString()
          .replace('Z', `${sign}${String(hours).padStart(2, '0')}:${String(minutes).padStart(2, '0')}`);
        expect(readTime(written)).toBe(at);
      }),
    );
  });

  it.each(['2026-07-14T06:00:00', '2026-07-14 06:00:00Z', '2026-02-30T06:00:00Z', '2026-07-14T24:00:00Z', '2026-07-14T06:60:00Z', 'now'])(
    '%j is not one: no zone, or no such moment',
    (text) => expect(readTime(text)).toBeNull(),
  );

  it('lose what is finer than a millisecond', () =>
    expect(readTime('2026-07-14T06:00:00.123999999Z')).toBe(Date.UTC(2026, 6, 14, 6, 0, 0, 123)));
});

describe('places', () => {
  it('are Points on the globe', () => {
    fc.assert(
      fc.property(
        fc.double({ min: -400, max: 400, noNaN: true }),
        fc.double({ min: -400, max: 400, noNaN: true }),
        (longitude, latitude) => {
          const onGlobe = Math.abs(longitude) <= 180 && Math.abs(latitude) <= 90;
          expect(isPlace({ type: 'Point', coordinates: [longitude, latitude] })).toBe(onGlobe);
        },
      ),
    );
  });

  it.each([
    [{ type: 'Point', coordinates: [8, 61, 1400] }],
    [{ type: 'Point', coordinates: ['8', '61'] }],
    [{ type: 'Point', coordinates: [8, 61], name: 'x' }],
    [{ type: 'LineString', coordinates: [8, 61] }],
    [[8, 61]],
    [null],
  ])('%j is not one', (value) => expect(isPlace(value as never)).toBe(false));
});

describe('a column of texts', () => {
  it.each([
    [['1', '0', '-7', ''], 'integer'],
    [['1', '2.5', '1e3'], 'number'],
    [['9007199254740993', '1'], 'number'],
    [['007', '12'], 'text'],
    [['true', 'FALSE'], 'boolean'],
    [['2026-07-14', '2026-02-28'], 'date'],
    [['2026-07-14', '2026-02-30'], 'text'],
    [['2026-07-14T06:00:00Z'], 'time'],
    [['{"type":"Point","coordinates":[8,61]}'], 'place'],
    [['', ''], 'text'],
    [['yes', 'no'], 'text'],
  ] as const)('%j is of type %s', (texts, type) => expect(guessType(texts)).toBe(type));

  it('never becomes a type that one of its texts does not fit', () => {
    const text = fc.oneof(
      fc.integer().map(String),
      fc.double({ noNaN: true }).map(String),
      fc.string(),
      fc.constantFrom('true', '2026-07-14', ''),
    );
    fc.assert(
      fc.property(fc.array(text, { maxLength: 8 }), (texts) => {
        const type = guessType(texts);
        for (const one of texts.filter(Boolean)) {
          if (type === 'integer') expect(Number.isSafeInteger(Number(one))).toBe(true);
          if (type === 'number') expect(Number.isFinite(Number(one))).toBe(true);
          if (type === 'date') expect(readDate(one)).not.toBeNull();
        }
      }),
    );
  });
});

describe('the header of a CSV file', () => {
  it('has its delimiter found, whichever it is and whatever stands in quotes', () => {
    const name = fc.string({ unit: fc.constantFrom('a', 'b', ' ', ',', ';', '|', '"'), maxLength: 6 });
    fc.assert(
      fc.property(fc.array(name, { minLength: 2, maxLength: 6 }), fc.constantFrom(',', ';', '\t', '|'), (names, delimiter) => {
        const header = names.map((one) => `"${one.replaceAll('"', '""')}"`).join(delimiter);
        expect(delimiterOf(header)).toBe(delimiter);
        expect(countCells(header, delimiter)).toBe(names.length);
      }),
    );
  });
});

describe('a pattern', () => {
  it.each(['(?=x)x', '(?<!x)y', '(a)\\1', '(?<n>a)\\k<n>'])('%s is refused by name, since it can take forever', (pattern) =>
    expect(() => matcherOf(pattern)).toThrow(/linear time, which excludes/),
  );
  it.each(['(', '[z-a]', '\\p{Nonsense}', 'a{2,1}'])('%s is refused as misspelt', (pattern) =>
    expect(() => matcherOf(pattern)).toThrow(PatternError),
  );

  it('is matched against the whole text, as JavaScript does', () => {
    const patterns = ['[a-c]+', 'a|bc', '\\d{2,3}', '(ab)*', 'x?y?', '[^a]', '\\w+\\s\\w+'];
    fc.assert(
      fc.property(fc.constantFrom(...patterns), fc.string({ unit: fc.constantFrom(...'abcxy 019'), maxLength: 8 }), (pattern, text) => {
        expect(matcherOf(pattern)(text)).toBe(new RegExp(`^(?:${pattern})$`, 'u').test(text));
      }),
    );
  });

  it('that would take forever elsewhere answers at once', () => {
    const matches = matcherOf('(a+)+b');
    expect(matches('a'.repeat(30_000))).toBe(false);
    expect(matches(`${'a'.repeat(30_000)}b`)).toBe(true);
  });

  it('has at most 1,000 characters', () => expect(() => matcherOf('a'.repeat(1_001))).toThrow('1001 characters'));
});

describe('the form of a list', () => {
  const scope = {
    kindOf: (path: readonly string[]) =>
      ({ bunks: 'number', name: 'text', region: 'text', position: 'place' })[path[0] as string] ?? 'text',
    names: () => [],
  };
  const form = (filter: string | null, ...sort: string[]) => formOf(filter === null ? null : readFilter(filter, scope as never), sort);

  it('is the same whatever values are compared with', () => {
    fc.assert(
      fc.property(fc.integer(), fc.integer(), (a, b) => {
        expect(form(`bunks = ${a} AND region = 'x'`, '-name')).toEqual(form(`region = 'y' AND bunks = ${b}`, '-name'));
      }),
    );
  });

  it.each<[string | null, string[], Partial<ListForm>, object | null]>([
    ["region = 'north'", [], { equal: ['region'] }, { fields: ['region'], kind: 'order' }],
    ["region = 'north' AND bunks > 3", ['-name'], { equal: ['region'], range: ['bunks'] }, { fields: ['region', 'name'], kind: 'order' }],
    ["region IN ('north','south')", [], { equal: ['region'] }, { fields: ['region'], kind: 'order' }],
    ['bunks BETWEEN 3 AND 5', [], { range: ['bunks'] }, { fields: ['bunks'], kind: 'order' }],
    ["region = 'a' OR bunks = 3", [], { equal: [] }, null],
    ["region <> 'a'", [], { equal: [] }, null],
    ["id = 'x'", ['name'], { equal: ['id'] }, null],
    ['S_WITHIN(position, BBOX(8, 61, 9, 62))', [], { places: ['position'] }, { fields: ['position'], kind: 'place' }],
    [null, ['bunks', 'id'], { sort: ['bunks'] }, { fields: ['bunks'], kind: 'order' }],
    [null, [], {}, null],
  ])('of %j sorted by %j proposes %j', (filter, sort, expected, proposal) => {
    const found = form(filter, ...sort);
    expect(found).toMatchObject(expected);
    expect(proposeIndex(found, (field) => field !== 'position')).toEqual(proposal);
  });

  it('is served by an index that begins with the same fields, in any order', () => {
    const wanted = { fields: ['region', 'bunks'], kind: 'order' as const };
    const index = (name: string, fields: string[], kind: 'order' | 'unique' | 'place' = 'order') => ({ name, fields, kind });
    expect(servingIndex(wanted, [index('a', ['bunks', 'region', 'name'])])).toBe('a');
    expect(servingIndex(wanted, [index('b', ['region', 'name', 'bunks']), index('c', ['region', 'bunks'], 'unique')])).toBe('c');
    expect(servingIndex(wanted, [index('d', ['region']), index('e', ['region', 'bunks'], 'place')])).toBeNull();
  });
});

describe('a JSON document of the wrong kind', () => {
  it.each([
    [{ clientKey: 'ckey-…', environment: 'dev' }, 'a client profile (orchard-client.json)'],
    [{ keys: [] }, 'a list of keys (JWK Set, RFC 7517)'],
    [{ kty: 'EC' }, 'a single key (JWK, RFC 7517)'],
    [{ openapi: '3.1.0' }, 'an OpenAPI document'],
    [{ type: 'FeatureCollection', features: [] }, 'GeoJSON'],
    [{ name: 'x', version: '1', scripts: {} }, 'a package.json'],
    [{ web: { client_secret: 'x' } }, 'the credential of an OAuth client that signs people in, not a service account'],
    [{ private_key: 'x' }, 'a service account’s key file of another network'],
    [{ a: 1, b: 2 }, 'a JSON object with a, b'],
    [{}, 'an empty JSON object'],
    [[], 'a JSON array'],
    [7, 'a single JSON value'],
  ])('%j is %s', (value, words) => expect(describeJson(value as never)).toBe(words));
});

it('items are grouped in the order in which they came', () => {
  fc.assert(
    fc.property(fc.array(fc.nat(9)), (items) => {
      const groups = grouped(items, (item) => item % 3);
      expect([...groups.values()].flat().sort()).toEqual([...items].sort());
      for (const [key, group] of groups) expect(group).toEqual(items.filter((item) => item % 3 === key));
      expect([...groups.keys()]).toEqual([...new Set(items.map((item) => item % 3))]);
    }),
  );
});
