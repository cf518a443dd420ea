import {
  type Asking,
  bindSlots,
  compileEvaluator,
  compileSql,
  type Field,
  type FieldType,
  kindOfField,
  parseFilter,
  readFilter,
  type JsonObject,
  SYSTEM_KINDS,
  type ValueKind,
  writeFilterJson,
  writeFilterText,
  type FilterScope,
  type Json,
} from '@orchard/core';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { type Database, openDatabase } from '../src/platform/database/connection.js';
import { columnSql, ID_TYPE, stored } from '../src/data/collections/columns.js';

let database: Database;
const NAME = `agreement_${process.pid}`;
beforeAll(async () => {
  database = openDatabase(inject('databaseUrl'));
  await database.run(`CREATE DATABASE ${NAME} CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin`);
});
afterAll(async () => {
  await database.run(`DROP DATABASE ${NAME}`);
  await database.close();
});

const TYPES: FieldType[] = ['text', 'integer', 'number', 'boolean', 'date', 'time', 'choice', 'place', 'list'];
/** Values that meet each other often, with what makes texts, numbers and times awkward among them. */
const TEXTS = [
  '',
  ' ',
  'a',
  'A',
  'a ',
  'ä',
  'Ä',
  'a\u0308',
  'é',
  'Éa',
  'ß',
  'SS',
  'İ',
  'i',
  'ı',
  'Σ',
  'σ',
  'ς',
  'ΟΔΟΣ',
  'Ёж',
  'ёж',
  '😀',
  '\uffff',
  'z',
  '%',
  '_',
  'a%b',
  'a\\b',
  "o'er",
  'ﬁ',
  'Ǆ',
  '\u{1e900}',
  '日本',
  '0',
  '10',
  '9',
  'null',
  '\n',
  'Ứng',
];
const NUMBERS = [0, -0, 1, -1, 2, 3, 10, 0.1, 0.2, 0.3, 0.30000000000000004, 1e15, -7.5, 1 / 3, 9007199254740991, 123456789.123];
const DATES = ['2026-07-14', '2026-07-15', '2024-02-29', '1999-12-31', '2026-12-31'];
const TIMES = [
  '2026-07-14T00:00:00.000Z',
  '2026-07-14T06:00:00.123Z',
  '2026-07-14T06:00:00.124Z',
  '2024-02-29T23:59:59.999Z',
  '2026-03-29T01:30:00.000Z',
];
const ZONED = [...TIMES, '2026-07-14T08:00:00.123+02:00', '2026-07-13T18:00:00-06:00'];
const POINTS: [number, number][] = [
  [0, 0],
  [1, 1],
  [0.5, 0.5],
  [1, 0],
  [0.5, 0],
  [8.31, 61.27],
  [8.3105, 61.2702],
  [180, 0],
  [-180, 0],
  [179.9, -89],
  [-179.9, 12],
  [0.1, 0.2],
  [0.3, 0.1],
];
const ITEMS: Json[] = ['a', 'A', 'warden', 1, 0, '1', true, false, 0.1];
const ROLES = ['warden', 'hiker', 'a'];
const NOW = Date.parse('2026-07-14T06:00:00.123Z');

const of = <T>(values: readonly T[]) => fc.constantFrom(...values);
const orNull = <T>(values: fc.Arbitrary<T>) => fc.oneof({ weight: 4, arbitrary: values }, { weight: 1, arbitrary: fc.constant(null) });
const place = (position: readonly number[]) => ({ type: 'Point', coordinates: [...position] });
const texts = fc.oneof(
  of(TEXTS),
  fc.string({ unit: 'grapheme', maxLength: 4 }).filter((text) => text.isWellFormed() && !text.includes('\0')),
);
const VALUES: Record<string, fc.Arbitrary<Json>> = {
  text: texts,
  integer: fc.oneof(of(NUMBERS.filter(Number.isInteger)), fc.integer({ min: -20, max: 20 })),
  number: fc.oneof(
    of(NUMBERS),
    fc.double({ noNaN: true, noDefaultInfinity: true, min: -1e6, max: 1e6 }).map((n) => Math.round(n * 1e9) / 1e9),
  ),
  boolean: fc.boolean(),
  date: of(DATES),
  time: of(TIMES),
  choice: of(['a', 'A', 'ä', 'open']),
  place: of(POINTS).map(place),
  list: fc.array(fc.oneof(of(ITEMS), fc.array(of(ITEMS), { maxLength: 2 }), fc.constant({ a: 'a' })), {
    maxLength: 4,
  }) as fc.Arbitrary<Json>,
};

type Shape = { types: FieldType[]; inner: FieldType[] };
const shapes: fc.Arbitrary<Shape> = fc.record({
  types: fc.array(of(TYPES), { minLength: 3, maxLength: 7 }),
  inner: fc.array(of(TYPES), { minLength: 1, maxLength: 3 }),
});
const fieldsOf = (types: FieldType[]) => new Map(types.map((type, i): [string, Field] => [`f${i}`, { type }]));

function scopeOf({ types, inner }: Shape): FilterScope {
  const kind = (fields: Map<string, Field>, name: string): ValueKind | null =>
    SYSTEM_KINDS.get(name) ?? (fields.has(name) ? kindOfField(fields.get(name) as Field) : null);
  return {
    kindOf: ([name = '', other]) =>
      other === undefined ? kind(fieldsOf(types), name) : name === 'ref' ? kind(fieldsOf(inner), other) : null,
    names: () => [],
  };
}

const quoted = (text: string) => `'${text.replaceAll("'", "''")}'`;
const comparison = of(['=', '<>', '<', '<=', '>', '>=']);

/** Filters over the fields of a shape, as CQL2 text. */
function filters(shape: Shape): fc.Arbitrary<string> {
  const names = [
    ...shape.types.map((type, i) => ({ name: `f${i}`, type })),
    ...shape.inner.map((type, i) => ({ name: `ref.f${i}`, type })),
    { name: 'id', type: 'text' as FieldType },
    { name: 'ownerId', type: 'text' as FieldType },
    { name: 'version', type: 'integer' as FieldType },
    { name: 'createdAt', type: 'time' as FieldType },
  ];
  const named = (...types: FieldType[]) => names.filter(({ type }) => types.includes(type)).map(({ name }) => name);
  const text = fc.oneof(of(named('text', 'choice')), texts.filter((one) => !/\\/.test(one)).map(quoted), fc.constant("me('id')"));
  const folded = fc.oneof(
    { weight: 3, arbitrary: text },
    { weight: 1, arbitrary: text.map((one) => `CASEI(${one})`) },
    { weight: 1, arbitrary: text.map((one) => `ACCENTI(${one})`) },
  );
  const foldedTwice = fc.oneof({ weight: 5, arbitrary: folded }, { weight: 1, arbitrary: text.map((one) => `ACCENTI(CASEI(${one}))`) });
  const leaf = fc.oneof(of(named('integer', 'number')), fc.oneof(of(NUMBERS), fc.integer({ min: -20, max: 20 })).map(String));
  const number: fc.Arbitrary<string> = fc.oneof(
    { weight: 3, arbitrary: leaf },
    { weight: 1, arbitrary: fc.tuple(leaf, of(['+', '-', '*', '/', '%', 'div']), leaf).map(([a, sign, b]) => `(${a} ${sign} ${b})`) },
    { weight: 1, arbitrary: leaf.map((one) => `${one}^2`) },
  );
  const dates = [...named('date'), ...DATES.map((date) => `DATE('${date}')`)];
  const times = [...named('time'), ...ZONED.map((time) => `TIMESTAMP('${time}')`), 'now()'];
  const instant = of([...dates, ...times]);
  const stretch = fc.oneof(
    instant,
    fc.tuple(of([...dates, ...times, "'..'"]), of([...dates, ...times, "'..'"])).map(([a, b]) => `INTERVAL(${a}, ${b})`),
  );
  const temporal = of([
    'T_AFTER',
    'T_BEFORE',
    'T_CONTAINS',
    'T_DISJOINT',
    'T_DURING',
    'T_EQUALS',
    'T_FINISHEDBY',
    'T_FINISHES',
    'T_INTERSECTS',
    'T_MEETS',
    'T_METBY',
    'T_OVERLAPPEDBY',
    'T_OVERLAPS',
    'T_STARTEDBY',
    'T_STARTS',
  ]);
  const pattern = fc.array(of(['%', '_', 'a', 'A', 'ä', 'é', '😀', '\\%', ' ']), { maxLength: 4 }).map((parts) => quoted(parts.join('')));
  const points = [...named('place'), ...POINTS.slice(0, 8).map((point) => `POINT(${point.join(' ')})`)];
  const area = of([
    'BBOX(0, 0, 1, 1)',
    'BBOX(170, -90, -170, 90)',
    'BBOX(8.31, 61, 9, 62)',
    'POLYGON((0 0, 1 0, 1 1, 0 0))',
    'POLYGON((0 0, 2 0, 2 2, 0 2, 0 0), (0.4 0.4, 0.6 0.4, 0.6 0.6, 0.4 0.6, 0.4 0.4))',
    'POLYGON((0 0, 0.3 0.1, 0.1 0.2, 0 0))',
    ...points,
  ]);
  const list = of([...named('list'), "me('roles')"]);
  const written = fc
    .array(of(ITEMS.map((item) => (typeof item === 'string' ? quoted(item) : String(item).toUpperCase()))), { maxLength: 3 })
    .map((items) => `(${items.join(', ')})`);
  const predicates: fc.Arbitrary<string>[] = [
    fc.tuple(foldedTwice, comparison, foldedTwice).map((parts) => parts.join(' ')),
    fc.tuple(number, comparison, number).map((parts) => parts.join(' ')),
    fc.tuple(instant, comparison, instant).map((parts) => parts.join(' ')),
    fc.tuple(folded, of(['LIKE', 'NOT LIKE']), pattern).map((parts) => parts.join(' ')),
    fc.tuple(number, of(['BETWEEN', 'NOT BETWEEN']), leaf, leaf).map(([value, how, low, high]) => `${value} ${how} ${low} AND ${high}`),
    fc
      .tuple(text, of(['IN', 'NOT IN']), fc.array(text, { minLength: 1, maxLength: 3 }))
      .map(([value, how, items]) => `${value} ${how} (${items.join(', ')})`),
    fc.tuple(leaf, fc.array(leaf, { minLength: 1, maxLength: 3 })).map(([value, items]) => `${value} IN (${items.join(', ')})`),
    fc.tuple(of(names.map(({ name }) => name)), of(['IS NULL', 'IS NOT NULL'])).map((parts) => parts.join(' ')),
    fc.tuple(temporal, stretch, stretch).map(([name, a, b]) => `${name}(${a}, ${b})`),
    fc.tuple(of(['S_INTERSECTS', 'S_WITHIN', 'S_DISJOINT']), of(points), area).map(([name, a, b]) => `${name}(${a}, ${b})`),
    fc
      .tuple(of(points), of(points), of(['<', '>', '<=']), of([0, 100, 5_000, 200_000, 9_000_000]))
      .map(([a, b, sign, metres]) => `distance(${a}, ${b}) ${sign} ${metres}`),
    fc
      .tuple(of(['A_CONTAINS', 'A_CONTAINEDBY', 'A_EQUALS', 'A_OVERLAPS']), list, fc.oneof(written, fc.constant("me('roles')")))
      .map(([name, a, b]) => `${name}(${a}, ${b})`),
    of(['TRUE', 'FALSE']),
  ];
  if (named('boolean').length > 0)
    predicates.push(fc.tuple(of(named('boolean')), of(['=', '<>']), of(['TRUE', 'FALSE'])).map((parts) => parts.join(' ')));
  const predicate = fc.oneof(...predicates);
  return fc.letrec<{ tree: string }>((tie) => ({
    tree: fc.oneof(
      { depthSize: 'small', withCrossShrink: true },
      predicate,
      fc.tuple(tie('tree'), of(['AND', 'OR']), tie('tree')).map(([a, word, b]) => `(${a} ${word} ${b})`),
      tie('tree').map((one) => `NOT (${one})`),
    ),
  })).tree;
}

const records = (types: FieldType[]) =>
  fc.array(fc.tuple(...types.map((type) => orNull(VALUES[type] as fc.Arbitrary<Json>))), { minLength: 6, maxLength: 14 });

let tables = 0;
async function makeTable(
  types: FieldType[],
  rows: Json[][],
  references: (string | null)[],
): Promise<{ table: string; records: JsonObject[] }> {
  const table = `${NAME}.t${++tables}`;
  const fields = fieldsOf(types);
  await database.run(
    `CREATE TABLE ${table} (id ${ID_TYPE} PRIMARY KEY, createdAt DATETIME(3), version INT, ownerId ${ID_TYPE}, ref ${ID_TYPE}, ${[...fields].map(([name, field]) => columnSql(name, field)).join(', ')})`,
  );
  const made: JsonObject[] = [];
  for (const [i, row] of rows.entries()) {
    const record: JsonObject = {
      id: `r${i}`,
      createdAt: TIMES[i % TIMES.length] as string,
      version: i,
      ownerId: i % 3 === 0 ? 'a' : null,
      ref: references[i] ?? null,
    };
    const cells = row.map((value, at) => stored(types[at] as FieldType, value));
    await database.change(`INSERT INTO ${table} VALUES (?, ?, ?, ?, ?${cells.map(({ sql }) => `, ${sql}`).join('')})`, [
      record.id,
      new Date(record.createdAt as string),
      i,
      record.ownerId,
      record.ref,
      ...cells.flatMap(({ values }) => values),
    ]);
    row.forEach((value, at) => {
      record[`f${at}`] = value;
    });
    made.push(record);
  }
  return { table, records: made };
}

const ASKING: Asking[] = [
  { me: { id: 'a', roles: ROLES }, now: NOW },
  { me: { id: null, roles: [] }, now: NOW },
];
const column = (path: readonly string[]) => (path.length === 1 ? `t.\`${path[0]}\`` : `r.\`${path[1]}\``);

async function compare(
  shape: Shape,
  filter: string,
  main: Awaited<ReturnType<typeof makeTable>>,
  inner: Awaited<ReturnType<typeof makeTable>>,
): Promise<void> {
  let condition: ReturnType<typeof readFilter>;
  try {
    condition = readFilter(filter, scopeOf(shape));
  } catch (error) {
    // Only the bounds may refuse what the generator writes.
    expect((error as Error).message).toMatch(/at most|well-formed/);
    return;
  }
  const evaluate = compileEvaluator(condition);
  const { sql, slots } = compileSql(condition, { column });
  for (const asking of ASKING) {
    const rows = await database.rows<{ id: string; truth: number | null }>(
      `SELECT t.id, (${sql}) AS truth FROM ${main.table} t LEFT JOIN ${inner.table} r ON r.id = t.ref`,
      bindSlots(slots, asking),
    );
    const bySql = new Map(rows.map(({ id, truth }) => [id, truth === null ? null : Number(truth) !== 0]));
    for (const record of main.records) {
      const related = new Map([['ref', inner.records.find(({ id }) => id === record.ref) ?? null]]);
      expect({ filter, record, sql, truth: evaluate(record, asking, related) }).toEqual({
        filter,
        record,
        sql,
        truth: bySql.get(record.id as string),
      });
    }
  }
}

const KEYS = ['a', 'b', 'name', 'høyde'];
const objects: fc.Arbitrary<Json> = fc.letrec<{ value: Json }>((tie) => ({
  value: fc.oneof(
    { depthSize: 'small' },
    fc.oneof(of(TEXTS), of(NUMBERS), fc.boolean(), fc.constant(null), fc.array(of(ITEMS), { maxLength: 3 })) as fc.Arbitrary<Json>,
    fc.dictionary(of(KEYS), tie('value'), { maxKeys: 3 }) as fc.Arbitrary<Json>,
  ),
})).value;
const inside = fc.array(of(KEYS), { minLength: 1, maxLength: 3 }).map((keys) => ['f0', ...keys].join('.'));
const insidePredicates = fc.oneof(
  fc.tuple(inside, comparison, texts.filter((one) => !/\\/.test(one)).map(quoted)).map((parts) => parts.join(' ')),
  fc
    .tuple(
      inside.map((one) => `CASEI(${one})`),
      of(['=', '<>']),
      of(['a', 'A', 'ä']).map((one) => `CASEI(${quoted(one)})`),
    )
    .map((parts) => parts.join(' ')),
  fc.tuple(inside, comparison, of(NUMBERS).map(String)).map((parts) => parts.join(' ')),
  fc.tuple(inside, comparison, of(NUMBERS).map(String)).map(([a, sign, b]) => `${a} + 1 ${sign} ${b}`),
  fc.tuple(inside, of(['=', '<>']), of(['TRUE', 'FALSE'])).map((parts) => parts.join(' ')),
  fc.tuple(inside, of(['LIKE', 'NOT LIKE']), of(["'a%'", "'%'", "'_'"])).map((parts) => parts.join(' ')),
  fc.tuple(inside, of(["('a', 'A ')", '(1, 0.1)', '(TRUE)'])).map(([a, items]) => `${a} IN ${items}`),
  fc.tuple(inside, of(['IS NULL', 'IS NOT NULL'])).map((parts) => parts.join(' ')),
  fc
    .tuple(of(['A_CONTAINS', 'A_CONTAINEDBY', 'A_OVERLAPS']), inside, of(["('a', 1)", "me('roles')", '(TRUE)']))
    .map(([how, a, b]) => `${how}(${a}, ${b})`),
);

describe('a filter into objects', () => {
  it('reads the same in the database and in memory, and what is of another type as missing', async () => {
    const shape: Shape = { types: ['object'], inner: ['text'] };
    await fc.assert(
      fc.asyncProperty(
        fc.array(orNull(fc.dictionary(of(KEYS), objects, { maxKeys: 4 }) as fc.Arbitrary<Json>), { minLength: 4, maxLength: 8 }),
        fc.array(
          fc.oneof(
            insidePredicates,
            insidePredicates.map((one) => `NOT (${one})`),
          ),
          { minLength: 8, maxLength: 8 },
        ),
        async (rows, conditions) => {
          const main = await makeTable(
            shape.types,
            rows.map((row) => [row]),
            [],
          );
          const inner = await makeTable(shape.inner, [], []);
          for (const filter of conditions) await compare(shape, filter, main, inner);
        },
      ),
      { numRuns: 40 },
    );
  });

  it('reads the objects of a list, any and all of them, and lists inside those', async () => {
    const item = fc.oneof(fc.dictionary(of(KEYS), objects, { maxKeys: 3 }) as fc.Arbitrary<Json>, of(ITEMS) as fc.Arbitrary<Json>);
    const ofItems = insidePredicates.map((one) => one.replaceAll('f0.', ''));
    const how = of(['any', 'all']);
    const predicates = fc.oneof(
      fc.tuple(how, ofItems).map(([each, one]) => `${each}(f0, ${one})`),
      fc.tuple(how, ofItems, ofItems).map(([each, one, other]) => `NOT (${each}(f0, ${one} OR NOT (${other})))`),
      fc.tuple(how, how, of(KEYS), ofItems).map(([outer, each, key, one]) => `${outer}(f0, ${each}(${key}, ${one}))`),
      fc.tuple(how, how, ofItems, ofItems).map(([each, other, one, two]) => `${each}(f0, ${one}) AND ${other}(f0, ${two})`),
    );
    const shape: Shape = { types: ['list'], inner: ['text'] };
    await fc.assert(
      fc.asyncProperty(
        fc.array(orNull(fc.array(item, { maxLength: 3 }) as fc.Arbitrary<Json>), { minLength: 4, maxLength: 8 }),
        fc.array(predicates, { minLength: 8, maxLength: 8 }),
        async (rows, conditions) => {
          const main = await makeTable(
            shape.types,
            rows.map((row) => [row]),
            [],
          );
          const inner = await makeTable(shape.inner, [], []);
          for (const filter of conditions) await compare(shape, filter, main, inner);
        },
      ),
      { numRuns: 40 },
    );
  });

  it.each([
    ['f0.a.b', 'a condition compares it with something'],
    ["f0.a = DATE('2026-07-14')", 'compare dates and times as texts'],
    ['f0.a = f0.b', 'which says how it is read'],
    [`f0${'.a'.repeat(40)} = 1`, 'at most 10 steps'],
    [JSON.stringify({ op: '=', args: [{ property: "f0.a'b" }, 1] }), 'letters, digits, - and _'],
    ['f0 = 1', 'cannot be compared'],
  ])('is refused with words: %s', (filter, words) => {
    expect(() => readFilter(filter, scopeOf({ types: ['object'], inner: [] }))).toThrow(words);
  });
});

describe('a filter', () => {
  it('lets through the same records in the database and in memory, unknown where unknown', async () => {
    const runs = shapes.chain((shape) =>
      fc.record({
        shape: fc.constant(shape),
        rows: records(shape.types),
        inner: records(shape.inner),
        references: fc.array(orNull(fc.nat(5).map((i) => `r${i}`)), { minLength: 14, maxLength: 14 }),
        filters: fc.array(filters(shape), { minLength: 40, maxLength: 40 }),
      }),
    );
    await fc.assert(
      fc.asyncProperty(runs, async ({ shape, rows, inner, references, filters: texts }) => {
        const other = await makeTable(shape.inner, inner as Json[][], []);
        const main = await makeTable(shape.types, rows as Json[][], references);
        for (const text of texts) await compare(shape, text, main, other);
      }),
      { numRuns: Number(process.env.ORCHARD_AGREEMENT_RUNS ?? 12), endOnFailure: true },
    );
  });

  it('is the same filter after it was written as text, as JSON, and read again', () => {
    fc.assert(
      fc.property(shapes.chain(filters), (text) => {
        const tree = parseFilter(text);
        const json = writeFilterJson(tree);
        expect(writeFilterJson(parseFilter(writeFilterText(tree)))).toEqual(json);
        if (typeof json === 'object') expect(writeFilterJson(parseFilter(json))).toEqual(json);
      }),
      { numRuns: 300 },
    );
  });
});

describe('letters', () => {
  it('fold alike in the database and in memory, all of the first 131,071', async () => {
    const table = `${NAME}.letters`;
    await database.run(`CREATE TABLE ${table} (n INT PRIMARY KEY, c VARCHAR(4))`);
    const all = Array.from({ length: 0x20000 }, (_, n) => n).filter((n) => n > 0 && (n < 0xd800 || n > 0xdfff));
    for (let at = 0; at < all.length; at += 8000)
      await database.run(`INSERT INTO ${table} VALUES ?`, [all.slice(at, at + 8000).map((n) => [n, String.fromCodePoint(n)])]);
    for (const fold of ['CASEI', 'ACCENTI']) {
      const condition = readFilter(`${fold}(c) = 'x'`, { kindOf: () => 'text', names: () => [] });
      const sql = compileSql(condition, { column: () => 'c' }).sql.replace(/ = \?$/, '');
      const rows = await database.runRows<{ n: number; folded: string }>(`SELECT n, ${sql} AS folded FROM ${table}`);
      const evaluate = (letter: string, folded: string) =>
        compileEvaluator(readFilter(`${fold}(c) = d`, { kindOf: () => 'text', names: () => [] }))(
          { c: letter, d: folded },
          ASKING[0] as Asking,
        );
      expect(rows.filter(({ n, folded }) => evaluate(String.fromCodePoint(n), folded) !== true).map(({ n }) => n.toString(16))).toEqual([]);
    }
  });
});
