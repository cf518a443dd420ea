import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  type Asking,
  compileEvaluator,
  compileSql,
  explainFilter,
  FilterError,
  flatScope,
  type Json,
  type JsonObject,
  parseFilter,
  proposeIndex,
  formOf,
  readFilter,
  servingIndex,
  writeFilterJson,
  writeFilterText,
  type ValueKind,
} from '../src/index.js';

const scope = flatScope(
  new Map<string, ValueKind>([
    ['name', 'text'],
    ['region', 'text'],
    ['bunks', 'number'],
    ['altitudeM', 'number'],
    ['open', 'boolean'],
    ['arrives', 'date'],
    ['at', 'time'],
    ['position', 'place'],
    ['amenities', 'list'],
  ]),
);
const asking: Asking = { me: { id: 'runa', roles: ['warden'] }, now: Date.parse('2026-07-14T06:00:00Z') };
const hut: JsonObject = {
  name: 'Cold Tarn',
  region: 'north',
  bunks: 24,
  altitudeM: 1280,
  open: true,
  arrives: '2026-07-14',
  at: '2026-07-14T06:00:00.000Z',
  position: { type: 'Point', coordinates: [8.31, 61.27] },
  amenities: ['stove', 'water'],
};
const truth = (filter: string | Json) => compileEvaluator(readFilter(filter, scope))(hut, asking);

describe('a filter in CQL2 text', () => {
  it('binds NOT before AND before OR, and arithmetic before comparison', () => {
    expect(writeFilterJson(parseFilter("NOT bunks > 1 OR bunks + 2 * 3 < 3 AND region = 'north'"))).toEqual({
      op: 'or',
      args: [
        { op: 'not', args: [{ op: '>', args: [{ property: 'bunks' }, 1] }] },
        {
          op: 'and',
          args: [
            { op: '<', args: [{ op: '+', args: [{ property: 'bunks' }, { op: '*', args: [2, 3] }] }, 3] },
            { op: '=', args: [{ property: 'region' }, 'north'] },
          ],
        },
      ],
    });
  });

  it.each<[string, boolean | null]>([
    ["CASEI(name) LIKE CASEI('COLD%')", true],
    ["ACCENTI(name) = 'Cold Tarn'", true],
    ["name = 'o''er' OR name LIKE '_old T%'", true],
    ['bunks BETWEEN 20 AND 30 AND bunks NOT IN (1, 2)', true],
    ['-bunks < -23 AND bunks % 5 = 4 AND bunks DIV 5 = 4 AND bunks^2 = 576', true],
    ["T_DURING(at, INTERVAL('2026-07-14', '..'))", true],
    ["arrives = DATE('2026-07-14') AND at <= now()", true],
    ["arrives < '2026-07-15' AND at > '2026-07-14T07:59:59+02:00'", true],
    ['S_WITHIN(position, BBOX(8, 61, 9, 62)) AND S_DISJOINT(position, POLYGON((0 0, 1 0, 1 1, 0 0)))', true],
    ['distance(position, POINT(8.31 61.28)) < 1200', true],
    ["A_CONTAINS(amenities, ('stove')) AND A_OVERLAPS(amenities, ('sauna', 'water')) AND NOT A_EQUALS(amenities, ('stove'))", true],
    ["me('id') = 'runa' AND A_CONTAINS(me('roles'), ('warden'))", true],
    ['"open" = TRUE AND open <> FALSE', true],
  ])('%s is %s', (filter, expected) => expect(truth(filter)).toBe(expected));

  it.each([
    ['bnks > 3', 'There is no field `bnks`; did you mean `bunks`? (at character 1 of the filter)'],
    ['bunks >', 'Expected a value, a field name or `(`, found the end (at character 8 of the filter)'],
    ["region = 'north", 'A text in single quotes does not end (at character 10 of the filter)'],
    ['bunks > 3 bunks', 'Expected AND, OR, an operator or the end, found `bunks` (at character 11 of the filter)'],
    ['bunks > 3; DROP TABLE huts', '";" is not expected here (at character 10 of the filter)'],
    ["region = 'a' # all", 'A filter has no comments (at character 14 of the filter)'],
    ["region = 'a' /* all */", 'found `*` (at character 15 of the filter)'],
    ['open', 'Write `open = TRUE` (at character 1 of the filter)'],
    ["bunks = 'two'", '`bunks`, which holds a number, with a text'],
    ['position = POINT(1 2)', 'use distance(…), S_INTERSECTS, S_WITHIN or S_DISJOINT'],
    ['S_WITHIN(position, BBOX(8, 61, 9, 95))', '9 95 is off the globe'],
    ["arrives = DATE('2026-02-30')", "'2026-02-30' is not a date"],
    ['S_WITHIN(position, LINESTRING(0 0, 1 1))', 'Expected POINT, POLYGON or BBOX'],
    ['S_WITHIN(position, POLYGON((0 0, 1 1, 0 0)))', 'four positions or more'],
    ['nearby(position) < 3', 'There is no function `nearby`'],
    ["name LIKE '%a%a%a%a%a%a%a%a%a%a%a%'", 'A pattern has at most 10 %'],
    [`${'('.repeat(10_000)}bunks`, 'A filter nests at most 40 deep (at character 41 of the filter)'],
    [`bunks > 0${' AND bunks > 0'.repeat(400)}`, 'A filter has at most 1000 parts'],
    ['x'.repeat(20_000), 'A filter has at most 16,000 characters'],
    ['bunks = 1e999', 'The number is too large'],
    ['T_AFTER(bunks, now())', 'Expected a date, a time or INTERVAL(…), found a number'],
  ])('that is %.40s is told what is wrong', (text, message) => expect(() => readFilter(text, scope)).toThrow(message));

  it('is read or refused, whatever it is, with a position inside it', () => {
    const words = fc.array(
      fc.oneof(
        fc.constantFrom(
          'bunks',
          'name',
          'AND',
          'OR',
          'NOT',
          '(',
          ')',
          ',',
          '=',
          '<',
          "'a'",
          '1',
          'LIKE',
          'IN',
          'POINT(',
          'IS',
          'NULL',
          'me(',
          '-',
          '^',
          '"open"',
          'BETWEEN',
        ),
        fc.string({ maxLength: 3 }),
      ),
      { maxLength: 15 },
    );
    fc.assert(
      fc.property(words, (parts) => {
        const text = parts.join(' ');
        try {
          readFilter(text, scope);
        } catch (error) {
          expect(error).toBeInstanceOf(FilterError);
          if (!text.trimStart().startsWith('{')) expect((error as FilterError).position).toBeLessThanOrEqual(text.length);
        }
      }),
      { numRuns: 500 },
    );
  });

  it('matches a long text against many wildcards at once', () => {
    const like = compileEvaluator(readFilter("name LIKE '%a%a%a%a%a%a%a%a%b'", scope));
    expect(like({ name: 'a'.repeat(200_000) }, asking)).toBe(false);
  });
});

describe('a filter in CQL2 JSON', () => {
  // From the examples of OGC 21-065r2, with our fields.
  it.each<[string, Json]>([
    ["region LIKE 'n%'", { op: 'like', args: [{ property: 'region' }, 'n%'] }],
    ['bunks BETWEEN 1 AND 3', { op: 'between', args: [{ property: 'bunks' }, 1, 3] }],
    ["region IN ('a', 'b')", { op: 'in', args: [{ property: 'region' }, ['a', 'b']] }],
    ['region IS NOT NULL', { op: 'not', args: [{ op: 'isNull', args: [{ property: 'region' }] }] }],
    [
      "T_INTERSECTS(at, INTERVAL('2026-07-14', '..'))",
      { op: 't_intersects', args: [{ property: 'at' }, { interval: ['2026-07-14', '..'] }] },
    ],
    [
      'S_INTERSECTS(position, POINT(8.31 61.27))',
      { op: 's_intersects', args: [{ property: 'position' }, { type: 'Point', coordinates: [8.31, 61.27] }] },
    ],
    ['S_INTERSECTS(position, BBOX(8, 61, 9, 62))', { op: 's_intersects', args: [{ property: 'position' }, { bbox: [8, 61, 9, 62] }] }],
    ["arrives > DATE('2026-07-14')", { op: '>', args: [{ property: 'arrives' }, { date: '2026-07-14' }] }],
    [
      "CASEI(region) = CASEI('N')",
      {
        op: '=',
        args: [
          { op: 'casei', args: [{ property: 'region' }] },
          { op: 'casei', args: ['N'] },
        ],
      },
    ],
  ])('is the same as %s', (text, json) => {
    expect(writeFilterJson(parseFilter(text))).toEqual(json);
    expect(writeFilterText(parseFilter(JSON.stringify(json)))).toBe(text);
    expect(truth(json)).toBe(truth(text));
  });

  it('is written as text, or refused: nothing else', () => {
    const operator = fc.constantFrom(
      'and',
      'or',
      'not',
      'like',
      'between',
      'in',
      'isNull',
      '=',
      '+',
      '^',
      'interval',
      'constructor',
      'toString',
    );
    const { node } = fc.letrec<{ node: Json }>((tie) => ({
      node: fc.oneof(
        { maxDepth: 4 },
        fc.constantFrom<Json>(1, 'N', true, { property: 'region' }, { date: '2026-07-14' }),
        fc.record({ op: operator, args: fc.array(tie('node'), { maxLength: 4 }) }),
      ),
    }));
    fc.assert(
      fc.property(node, (json) => {
        try {
          expect(typeof writeFilterText(parseFilter(json))).toBe('string');
        } catch (error) {
          expect(error).toBeInstanceOf(FilterError);
        }
      }),
    );
  });

  it.each<[Json, string]>([
    [{ op: '=', args: [{ property: 'bnks' }, 3] }, 'did you mean `bunks`? (at $.args[0] of the filter)'],
    [{ op: '=' }, 'Expected a list in `args` of = (at $ of the filter)'],
    [{ op: '=', args: [{ colour: 3 }, 3] }, 'Expected one of: {"op"'],
    [{ op: 'and', args: [true] }, '`and` joins two conditions or more'],
  ])('that is %j is told what is wrong', (json, message) => expect(() => readFilter(json, scope)).toThrow(message));
});

it('puts nothing of a filter’s text into the SQL', () => {
  fc.assert(
    fc.property(fc.string({ minLength: 3 }), (text) => {
      fc.pre(text.isWellFormed() && !/^[a-zA-Z ?%=`._]*$/.test(text) && !/\\/.test(text));
      const { sql, slots } = compileSql(readFilter(`name = '${text.replaceAll("'", "''")}'`, scope), { column: ([name]) => `t.${name}` });
      expect([sql, slots]).toEqual(['t.name = ?', [{ value: text }]]);
    }),
  );
});

it('gives a spatial index the box that a radius implies, and only where the filter demands it', () => {
  const names = { column: ([name]: readonly string[]) => `t.${name}`, spatial: () => 'box' };
  expect(compileSql(readFilter('open = TRUE AND distance(position, POINT(8 61)) < 1000', scope), names).sql).toMatch(
    /^\(MBRIntersects\(box, ST_GeomFromText\(\?\)\)\) AND /,
  );
  expect(compileSql(readFilter('open = TRUE OR distance(position, POINT(8 61)) < 1000', scope), names).sql).not.toContain('MBR');
  expect(compileSql(readFilter('distance(position, POINT(180 0)) < 1000', scope), names).sql.match(/MBRIntersects/g)).toHaveLength(2);
});

it('says which part of a rule decided', () => {
  const tree = parseFilter("open = TRUE AND (region = 'south' OR me('id') = 'kenji')");
  expect(explainFilter(tree, scope, hut, asking)).toEqual({
    text: "open = TRUE AND (region = 'south' OR me('id') = 'kenji')",
    result: false,
    decided: true,
    parts: [
      { text: 'open = TRUE', result: true, decided: false },
      {
        text: "region = 'south' OR me('id') = 'kenji'",
        result: false,
        decided: true,
        parts: [
          { text: "region = 'south'", result: false, decided: true },
          { text: "me('id') = 'kenji'", result: false, decided: true },
        ],
      },
    ],
  });
});

describe('advice on indexes', () => {
  const propose = (filter: string, sort: string[] = []) =>
    proposeIndex(formOf(filter ? readFilter(filter, scope) : null, sort), () => true);
  it.each<[string, string[], string[] | null]>([
    ["region = 'north'", [], ['region']],
    ["region = 'north' AND bunks > 3", [], ['region', 'bunks']],
    ["region = 'north' AND bunks > 3", ['-altitudeM'], ['region', 'altitudeM']],
    ['bunks > 3 OR altitudeM > 3', [], null],
    ['', ['-at'], ['at']],
    ['distance(position, POINT(8 61)) < 5000', [], ['position']],
    ["NOT region = 'north'", [], null],
  ])('for %s sorted by %j is %j', (filter, sort, fields) => expect(propose(filter, sort)?.fields ?? null).toEqual(fields));
  it('sees that an index serves already', () => {
    const proposal = { fields: ['bunks', 'region'], kind: 'order' as const };
    expect(servingIndex(proposal, [{ name: 'by_region_bunks_at', fields: ['region', 'bunks', 'at'], kind: 'order' }])).toBe(
      'by_region_bunks_at',
    );
    expect(servingIndex(proposal, [{ name: 'by_at', fields: ['at', 'region', 'bunks'], kind: 'order' }])).toBeNull();
  });
});
