/** Searching the texts of a collection, and indexes over what lies inside objects and lists. */
import { operations } from '@orchard/contract';
import { compileEvaluator, flatScope, type JsonObject, readFilter } from '@orchard/core';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let runa: { id: string; token: string };
const { collections } = operations;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  runa = await signUp(test, app.dev.clientKey, 'runa');
});
afterAll(() => test.stop());

const at = (collection: string) => ({ params: { ...app.dev.params, collection } });
const make = (name: string, fields: object[], records: object[]) =>
  test.owner
    .call(collections.create, { ...app.dev, body: { name, fields, rules: { read: 'signed-in', create: 'signed-in' } } as never })
    .then(async () => {
      for (const record of records)
        expect((await test.app('POST', `/data/${name}`, { key: app.dev.serverKey, body: record })).status).toBe(201);
    });
const list = async (collection: string, query: Record<string, string>, who: object = { key: app.dev.serverKey }) =>
  (await test.app('GET', `/data/${collection}?${new URLSearchParams(query)}`, who)).body;
const ids = async (collection: string, filter: string, sort?: string): Promise<string[]> =>
  (await list(collection, { filter, ...(sort ? { sort } : {}) })).items.map(({ id }: JsonObject) => id);
const addIndex = (collection: string, body: object) => test.owner.call(collections.addIndex, { ...at(collection), body: body as never });
const drop = (collection: string, index: string) =>
  test.owner.call(collections.removeIndex, { params: { ...app.dev.params, collection, index } });
const change = (collection: string, body: object) =>
  test.owner.call(collections.change, { ...at(collection), query: {}, body: body as never });
const shapeOf = async (collection: string) => test.owner.call(collections.read, at(collection));

const LONG = `${'The path climbs along the stream and the old wall. '.repeat(6)}At Ardvale the bridge is down; wade only at low water.`;
const NOTICES = [
  { id: 'n1', title: 'Bridge closed', body: LONG, state: 'open' },
  { id: 'n2', title: 'Water off', body: 'No water at the hut until Friday. Bring water.', state: 'open' },
  { id: 'n3', title: 'Brücke über den Ås', body: null, state: 'old' },
  { id: 'n4', title: null, body: null, state: 'old' },
];

describe('a search', () => {
  beforeAll(async () => {
    await make(
      'notices',
      ['title', 'body', 'state'].map((name) => ({ name, type: 'text' })),
      NOTICES,
    );
  });

  it('says that it needs an index, and which texts that can be', async () => {
    const refused = await list('notices', { filter: "search('water')" });
    expect(refused).toMatchObject({ status: 422, detail: expect.stringContaining('needs a search index') });
    await expect(addIndex('notices', { fields: ['titel'], search: true })).rejects.toMatchObject({
      detail: expect.stringContaining('has no field `titel`'),
    });
    await expect(addIndex('notices', { fields: ['createdAt'], search: true })).rejects.toMatchObject({
      detail: expect.stringContaining('does not hold texts'),
    });
    expect(await addIndex('notices', { fields: ['title', 'body'], search: true })).toMatchObject({
      kind: 'search',
      fields: ['title', 'body'],
    });
    await expect(addIndex('notices', { fields: ['state'], search: true })).rejects.toMatchObject({ problem: 'already-exists' });
  });

  it('finds all of its words whatever their case and accents, beginnings of words, and not what is unwanted', async () => {
    expect(await ids('notices', "search('WATER')")).toEqual(['n2', 'n1']);
    expect(await ids('notices', "search('water bridge')")).toEqual(['n1']);
    expect(await ids('notices', "search('brucke')")).toEqual(['n3']);
    expect(await ids('notices', "search('clos*')")).toEqual(['n1']);
    expect(await ids('notices', "search('clos')")).toEqual([]);
    expect(await ids('notices', "search('water -bridge')")).toEqual(['n2']);
    expect(await ids('notices', "search('the wall')"), 'common words count').toEqual(['n1']);
    expect(await ids('notices', "NOT search('water') AND state = 'old'")).toEqual(['n3', 'n4']);
  });

  it('shows the best answers first unless it is sorted otherwise, page by page', async () => {
    expect(await ids('notices', "search('water')", 'id')).toEqual(['n1', 'n2']);
    const first = await list('notices', { filter: "search('water')", limit: '1' });
    const second = await list('notices', { filter: "search('water')", limit: '1', cursor: first.next });
    expect([...first.items, ...second.items].map(({ id }: JsonObject) => id)).toEqual(['n2', 'n1']);
    expect(await ids('notices', "state = 'open'", "-search('water'),id")).toEqual(['n2', 'n1']);
  });

  it('shows what was found, with the words around it', async () => {
    const { items } = await list('notices', { filter: "search('bridge low')", excerpts: 'true' });
    const found = Object.fromEntries(
      items[0]._excerpts.map(({ field, text, marks }: { field: string; text: string; marks: [number, number][] }) => [
        field,
        { text, words: marks.map(([from, to]) => text.slice(from, to)) },
      ]),
    );
    expect(found.title.words).toEqual(['Bridge']);
    expect(found.body.words).toEqual(['bridge', 'low']);
    expect(found.body.text).toMatch(/^… .*At Ardvale the bridge is down; wade only at low water\.$/);
    expect(found.body.text.length).toBeLessThan(200);
    expect(await list('notices', { filter: 'TRUE', excerpts: 'true' })).toMatchObject({ status: 422 });
  });

  it('is refused with words where it has none to find, or is compared', async () => {
    for (const [filter, words] of [
      ["search('at -water')", 'needs a word of 3 to 84'],
      [`search('${'word '.repeat(21)}')`, 'at most 20 words'],
      ["search('water') > 1", 'a condition of its own'],
      ['search(title)', 'takes a text'],
    ])
      expect(await list('notices', { filter: filter as string })).toMatchObject({
        status: 422,
        detail: expect.stringContaining(words as string),
      });
  });

  it('serves clients, summaries and rules', async () => {
    const who = { key: app.dev.clientKey, token: runa.token };
    expect((await list('notices', { filter: "search('water')" }, who)).items).toHaveLength(2);
    const summary = await test.app('GET', `/summaries/notices?measure=count&filter=${encodeURIComponent("search('water')")}`, who);
    expect(summary.body.groups).toEqual([{ count: 2 }]);
    await test.owner.call(collections.patch, { ...at('notices'), body: { rules: { read: "search('bridge') OR state = 'old'" } } });
    expect((await list('notices', {}, who)).items.map(({ id }: JsonObject) => id)).toEqual(['n1', 'n3', 'n4']);
    expect((await test.app('GET', '/data/notices/n2', who)).status).toBe(403);
    await test.owner.call(collections.patch, { ...at('notices'), body: { rules: { read: 'signed-in' } } });
  });

  it('keeps its index when a field is renamed, and loses it with a field', async () => {
    await change('notices', { change: 'rename', name: 'body', to: 'words' });
    expect((await shapeOf('notices')).indexes.find(({ kind }) => kind === 'search')?.fields).toEqual(['title', 'words']);
    expect(await ids('notices', "search('friday')")).toEqual(['n2']);
    await change('notices', { change: 'drop', name: 'title' });
    expect((await shapeOf('notices')).indexes.filter(({ kind }) => kind === 'search')).toEqual([]);
  });

  it('reads the same in memory as in the index', async () => {
    const words = [
      'bridge',
      'Straße',
      'STRASSE',
      'ÆTHER',
      'øre',
      'ore',
      'Łódź',
      'lodz',
      'é́té',
      'naïve',
      'Дорога',
      'ёлка',
      'ελλάδα',
      'x1y2',
      'und_er',
      "don't",
      'a-bcd',
      'œuvre',
      'hæ',
    ];
    const of = fc.constantFrom(...words);
    const texts = fc.sample(fc.array(of, { minLength: 1, maxLength: 4 }), { numRuns: 60, seed: 7 });
    await make(
      'spelled',
      [{ name: 'text', type: 'text' }],
      texts.map((some, i) => ({ id: `s${100 + i}`, text: some.join(i % 2 ? ' ' : ', ') })),
    );
    await addIndex('spelled', { fields: ['text'], search: true });
    const { items } = await list('spelled', { limit: '100' });
    const scope = { ...flatScope(new Map([['text', 'text' as const]])), search: ['text'] };
    const searches = [...words, ...words.map((word) => `${word.slice(0, 3)}*`), 'bridge -ore', 'øre lodz'].filter((one) =>
      /[\p{L}\p{N}_]{3}/u.test(one),
    );
    for (const typed of searches) {
      const filter = `search('${typed.replaceAll("'", "''")}')`;
      const finds = compileEvaluator(readFilter(filter, scope));
      const expected = items
        .filter((record: JsonObject) => finds(record, { me: { id: null, roles: [] }, now: 0 }))
        .map(({ id }: JsonObject) => id);
      expect(
        (await list('spelled', { filter, sort: 'id', limit: '100' })).items.map(({ id }: JsonObject) => id),
        typed,
      ).toEqual(expected);
    }
  });
});

describe('an index', () => {
  const REPAIRS = [
    {
      id: 'r1',
      meta: { service: 'repair', seats: 3, open: true },
      tags: ['ridge', 'x'],
      stops: [{ kind: 'hut', nights: 2 }, { kind: 'camp' }],
    },
    { id: 'r2', meta: { service: 'rent', seats: 12, open: false }, tags: ['ridge water', 5], stops: [] },
    { id: 'r3', meta: { service: 5 }, tags: null, stops: [{ kind: 'hut' }] },
  ];
  beforeAll(async () => {
    await make(
      'outings',
      [
        { name: 'meta', type: 'object' },
        { name: 'tags', type: 'list' },
        { name: 'stops', type: 'list' },
        { name: 'at', type: 'date' },
      ],
      REPAIRS,
    );
  });

  it('over what lies inside an object holds values of one type, beside fields', async () => {
    const before = await ids('outings', "meta.service = 'repair' AND meta.seats < 5");
    expect(await addIndex('outings', { fields: ['meta.service', 'at'] })).toEqual({
      name: 'by_meta_service_at',
      kind: 'order',
      fields: ['meta.service', 'at'],
    });
    await addIndex('outings', { fields: ['meta.seats:number'] });
    await addIndex('outings', { fields: ['meta.open:boolean'] });
    expect(await ids('outings', "meta.service = 'repair' AND meta.seats < 5")).toEqual(before);
    expect(await ids('outings', 'meta.service = 5')).toEqual(['r3']);
    expect(await ids('outings', 'meta.open = FALSE')).toEqual(['r2']);
    const database = (await test.service.parts.directory.environment(app.name, 'dev')).db;
    const [plan] = await database.rows<{ key: string }>(
      `EXPLAIN SELECT id FROM ${database.collection('outings')} t WHERE t.\`${await columnOf('path meta.service')}\` = 'repair'`,
    );
    expect(plan?.key).toBe('by_meta_service_at');
  });

  const columnOf = async (comment: string) => {
    const database = (await test.service.parts.directory.environment(app.name, 'dev')).db;
    const [row] = await database.rows<{ name: string }>(
      "SELECT COLUMN_NAME AS name FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = 'outings' AND COLUMN_COMMENT = ?",
      [database.name, comment],
    );
    return row?.name;
  };

  it('over a list serves what it holds; a list of objects is asked for any or all of them', async () => {
    expect(await addIndex('outings', { fields: ['tags'] })).toMatchObject({ kind: 'items' });
    expect(await ids('outings', "A_CONTAINS(tags, ('ridge'))")).toEqual(['r1']);
    expect(await ids('outings', "A_CONTAINS(tags, ('ridge water'))")).toEqual(['r2']);
    expect(await ids('outings', "A_CONTAINS(tags, ('x'))"), 'too short for the index').toEqual(['r1']);
    expect(await ids('outings', "A_OVERLAPS(tags, ('ridge', 'ridge water'))")).toEqual(['r1', 'r2']);
    expect(await ids('outings', 'A_CONTAINS(tags, (5))')).toEqual(['r2']);
    expect(await ids('outings', "any(stops, kind = 'hut' AND nights > 1)")).toEqual(['r1']);
    expect(await ids('outings', "all(stops, kind = 'hut')")).toEqual(['r2', 'r3']);
  });

  it('is refused where it would not serve, and goes with its field', async () => {
    const refused = (body: object) => addIndex('outings', body).catch(({ detail }) => detail);
    expect(await refused({ fields: ['meta'] })).toContain('an object, which has no order');
    expect(await refused({ fields: ['meta.service:date'] })).toContain('has no field `meta.service:date`');
    expect(await refused({ fields: ['tags', 'at'] })).toContain('contains only that list');
    expect(await refused({ fields: ['meta.service'], unique: true })).toContain('lies inside an object');
    await drop('outings', 'by_meta_open_boolean');
    expect(await columnOf('path meta.open:boolean')).toBeUndefined();
    await change('outings', { change: 'rename', name: 'meta', to: 'about' });
    expect(await ids('outings', "about.service = 'repair'")).toEqual(['r1']);
    expect((await shapeOf('outings')).indexes.map(({ fields }) => fields.join())).toEqual(
      expect.arrayContaining(['about.service,at', 'about.seats:number']),
    );
    await change('outings', { change: 'drop', name: 'about' });
    expect((await shapeOf('outings')).indexes.map(({ kind }) => kind)).not.toContain('order,order');
    expect(await columnOf('path about.service')).toBeUndefined();
  });
});
