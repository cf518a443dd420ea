/** The small reader of filters, which apps bring along, agrees with the parser of the service. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { readFilterText } from '../src/filter/reading.js';
import { FilterError, type FilterNode, parseFilter } from '../src/index.js';

const read = (reader: (text: string) => FilterNode, text: string): FilterNode | 'refused' => {
  try {
    return reader(text);
  } catch (error) {
    expect(error).toBeInstanceOf(FilterError);
    return 'refused';
  }
};
const bothRead = (text: string) => [read(readFilterText, text), read(parseFilter, text)];

const PIECES = [
  ...[
    'name',
    'hut.region',
    '"open"',
    'position',
    'and',
    'AND',
    'Or',
    'NOT',
    'not',
    'LIKE',
    'between',
    'IN',
    'is',
    'NULL',
    'true',
    'FALSE',
    'div',
  ],
  ...[
    '(',
    ')',
    ',',
    '+',
    '-',
    '*',
    '/',
    '%',
    '^',
    '=',
    '<>',
    '<',
    '<=',
    '>',
    '>=',
    "'text'",
    "'it''s'",
    "'a\\'b'",
    '7',
    '.5',
    '1e3',
    '07',
    "DATE('2026-07-14')",
  ],
  ...[
    "TIMESTAMP('2026-07-14T06:00:00Z')",
    'POINT(8 61)',
    'POINT(-8.5 61)',
    'POLYGON((0 0, 1 0, 1 1, 0 0))',
    'BBOX(1, 2, 3, 4)',
    'POINT',
    'LINESTRING(1 2)',
  ],
  ...[
    "me('id')",
    'now()',
    'S_INTERSECTS(position, POINT(1 2))',
    "A_CONTAINS(tags, ('a', 'b'))",
    'CASEI(name)',
    "T_DURING(at, INTERVAL('..', '2026-07-14'))",
    '()',
    "'open",
    '#',
    '§',
  ],
];
const soup = fc.array(fc.constantFrom(...PIECES), { minLength: 1, maxLength: 14 }).map((pieces) => pieces.join(' '));

/** Filters that are sound, as a grammar makes them. */
const sound = fc.letrec<{ condition: string; term: string }>((tie) => ({
  term: fc.oneof(
    { depthSize: 'small' },
    fc.constantFrom(
      'bunks',
      'hut.name',
      '"open"',
      '12',
      '.5',
      "'it''s'",
      'TRUE',
      "DATE('2026-07-14')",
      "me('id')",
      'now()',
      '-3',
      '- bunks',
    ),
    fc.tuple(tie('term'), fc.constantFrom('+', '-', '*', '/', '%', 'div', '^'), tie('term')).map((parts) => `(${parts.join(' ')})`),
  ),
  condition: fc.oneof(
    { depthSize: 'small' },
    fc.tuple(tie('term'), fc.constantFrom('=', '<>', '<', '<=', '>', '>='), tie('term')).map((parts) => parts.join(' ')),
    fc
      .tuple(
        tie('term'),
        fc.constantFrom('IS NULL', 'is not null', "LIKE 'a%'", "not like 'b_'", 'BETWEEN 1 AND 2 + 3', 'IN (1, 2)', 'NOT IN ()'),
      )
      .map((parts) => parts.join(' ')),
    fc.tuple(tie('condition'), fc.constantFrom('AND', 'or', 'Or'), tie('condition')).map((parts) => parts.join(' ')),
    tie('condition').map((inner) => `NOT (${inner})`),
    tie('condition').map((inner) => `(${inner})`),
  ),
})).condition;

describe('the small reader of filters', () => {
  it('reads every sound filter to the same tree, with the same positions', () => {
    fc.assert(
      fc.property(sound, (text) => {
        const [small, whole] = bothRead(text);
        expect(small).toEqual(whole);
      }),
      { numRuns: 500 },
    );
  });

  it('reads or refuses whatever else it is given, as the parser does', () => {
    fc.assert(
      fc.property(fc.oneof(soup, fc.string()), (text) => {
        const [small, whole] = bothRead(text);
        expect(small).toEqual(whole);
      }),
      { numRuns: 3_000 },
    );
  });

  it('says where it stopped and what would be right', () => {
    expect(() => readFilterText('bunks >')).toThrow('Expected a value, a field name or `(`, found the end (at character 8 of the filter)');
    expect(() => readFilterText("name = 'open")).toThrow('A text in single quotes does not end (at character 8 of the filter)');
  });
});
