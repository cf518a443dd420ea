/** Lists across databases: the same pages as if everything stood in one. */
import { createHash } from 'node:crypto';
import fc from 'fast-check';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import type { Database } from '../src/platform/database/connection.js';
import { type ListRequest, listAcross, listRows, plainColumns } from '../src/platform/database/listing.js';
import { startTestService, type TestService } from './support.js';

let test: TestService;
let database: Database;
const TABLES = ['across0', 'across1', 'across2'];
const WHOLE = 'acrossWhole';
type Row = { id: string; name: string | null; size: number | null; at: Date | null };
const listed = {
  columns: new Map(plainColumns({ text: ['id', 'name'], number: ['size'], time: ['at'] })),
  sort: 'name',
  tie: { field: 'id', descending: false },
};
const ground = { cursorSecret: Buffer.alloc(32, 7), now: () => Date.now() };
const present = ({ id, name, size, at }: Row) => ({ id, name, size, at: at?.toISOString() ?? null });

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  database = test.service.parts.database;
  for (const table of [...TABLES, WHOLE])
    await database.run(`CREATE TABLE ${table} (id VARCHAR(10) PRIMARY KEY, name VARCHAR(10), size INT, at DATETIME(3))`);
});
afterAll(() => test.stop());

const rows = fc.uniqueArray(
  fc.record({
    id: fc.integer({ min: 0, max: 999 }).map(String),
    name: fc.option(fc.constantFrom('Ash', 'ash', 'Birch', 'Ålesund', 'birch', '', 'zz', '雪')),
    size: fc.option(fc.integer({ min: -3, max: 3 })),
    at: fc.option(fc.integer({ min: 0, max: 3 }).map((day) => new Date(Date.UTC(2026, 6, 14 + day)))),
  }),
  { selector: ({ id }) => id, maxLength: 24 },
);

async function fill(all: Row[]): Promise<void> {
  for (const table of [...TABLES, WHOLE]) await database.run(`DELETE FROM ${table}`);
  const values = (some: Row[]) => [some.map(({ id, name, size, at }) => [id, name, size, at])];
  if (all.length === 0) return;
  await database.run(`INSERT INTO ${WHOLE} VALUES ?`, values(all));
  for (const [i, table] of TABLES.entries()) {
    const own = all.filter(({ id }) => (createHash('md5').update(id).digest()[0] as number) % 3 === i);
    if (own.length > 0) await database.run(`INSERT INTO ${table} VALUES ?`, values(own));
  }
}
const across = (request: ListRequest) =>
  listAcross<Row, object>(
    TABLES.map((table) => ({ on: database, select: `SELECT * FROM ${table}` })),
    listed,
    request,
    ground,
    present,
  );
const whole = (request: ListRequest) =>
  listRows<Row, object>(database, { ...listed, select: `SELECT * FROM ${WHOLE}` }, request, ground, present);

/** Every page, from the first to the last. */
async function pages(
  list: (request: ListRequest) => Promise<{ items: object[]; next?: string }>,
  request: ListRequest,
): Promise<object[][]> {
  const found: object[][] = [];
  let cursor: string | undefined;
  do {
    const page = await list({ ...request, cursor });
    found.push(page.items);
    cursor = page.next;
  } while (cursor);
  return found;
}

describe('a list across databases', () => {
  it('has the pages of one database that holds everything, in any order', async () => {
    const sort = fc.constantFrom('name', '-name', 'size,name', '-size,at', 'at,-name', 'id', '-id', '-at,-size,name');
    await fc.assert(
      fc.asyncProperty(rows, sort, fc.integer({ min: 1, max: 7 }), async (all, order, limit) => {
        await fill(all as Row[]);
        expect(await pages(across, { sort: order, limit })).toEqual(await pages(whole, { sort: order, limit }));
      }),
      { numRuns: 60 },
    );
  });

  it('filters in each of them', async () => {
    await fc.assert(
      fc.asyncProperty(
        rows,
        fc.constantFrom('size > 0', "name LIKE 'b%'", 'name IS NULL', 'size = 1 OR size IS NULL'),
        async (all, filter) => {
          await fill(all as Row[]);
          expect(await pages(across, { filter, limit: 3 })).toEqual(await pages(whole, { filter, limit: 3 }));
        },
      ),
      { numRuns: 40 },
    );
  });
});

describe('what it refuses', () => {
  beforeEach(() =>
    fill([
      { id: '1', name: 'Ash', size: 1, at: null },
      { id: '2', name: 'Birch', size: 2, at: null },
    ]),
  );

  it.each([
    [{ sort: 'colour' }, 'Cannot sort by `colour`'],
    [{ filter: 'colour = 1' }, 'colour'],
    [{ cursor: 'made-up.cursor' }, 'The cursor was not issued here.'],
  ])('%j', async (request, words) => {
    await expect(across({ limit: 1, ...request })).rejects.toThrow(words);
  });

  it('a cursor of another order', async () => {
    const { next } = await across({ sort: 'name', limit: 1 });
    await expect(across({ sort: 'size', limit: 1, cursor: next })).rejects.toThrow('The cursor belongs to a list sorted by name,id.');
  });

  it('nothing of a part that has a condition of its own, whose rows alone it adds', async () => {
    await database.run('INSERT INTO across0 VALUES (?, ?, 9, NULL)', ['900', 'Cedar']);
    const only = { on: database, select: `SELECT * FROM ${WHOLE}`, condition: { sql: 'size = ?', values: [2] } };
    const found = await listAcross<Row, { id: string }>(
      [only, { on: database, select: 'SELECT * FROM across0' }],
      listed,
      { filter: 'size > 1', limit: 9 },
      ground,
      present,
    );
    expect(
      found.items
        .map(({ id }) => id)
        .filter((id) => ['1', '2', '900'].includes(id))
        .sort(),
    ).toEqual(expect.arrayContaining(['2', '900']));
    expect(found.items.map(({ id }) => id)).not.toContain('1');
  });
});
