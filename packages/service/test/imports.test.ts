import { operations } from '@orchard/contract';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  const fields = [
    { name: 'name', type: 'text' as const, required: true },
    { name: 'region', type: 'choice' as const, choices: ['north', 'south'] },
    { name: 'position', type: 'place' as const },
    { name: 'bunks', type: 'integer' as const },
    { name: 'built', type: 'date' as const },
  ];
  for (const name of ['huts', 'copies'])
    await test.owner.call(operations.collections.create, { params: app.dev.params, body: { name, fields } });
});
afterAll(() => test.stop());

const params = (collection: string) => ({ ...app.dev.params, collection });
const load = (collection: string, format: 'csv' | 'ndjson' | 'geojson', text: string, query: object = {}) =>
  test.owner
    .open(operations.collections.importRecords, { params: params(collection), query: { format, ...query } as never, raw: text })
    .then((reply) => reply.json());
const save = async (collection: string, format: 'csv' | 'ndjson' | 'geojson', query: object = {}) =>
  (
    await test.owner.open(operations.collections.exportRecords, { params: params(collection), query: { format, ...query } as never })
  ).text();
const all = async (collection: string, filter = 'TRUE') =>
  (await test.owner.call(operations.managedRecords.list, { params: params(collection), query: { filter, limit: 1000 } })).items;

describe('a CSV file', () => {
  it('becomes records: columns named, texts read as what the fields take', async () => {
    const csv = 'Hut,lon,lat,bunks,region,built,skip\n"Cold ""Tarn"", upper",8.31,61.27,24,north,1932-06-01,x\nRed Scree,,,,south,,x\n';
    const columns = JSON.stringify({ Hut: 'name', lon: 'position.longitude', lat: 'position.latitude', skip: null });
    expect(await load('huts', 'csv', csv, { columns })).toEqual({ stored: 2, rejected: 0, rejects: [] });
    expect(await all('huts', "name LIKE 'Cold%'")).toMatchObject([
      { name: 'Cold "Tarn", upper', position: { coordinates: [8.31, 61.27] }, bunks: 24, built: '1932-06-01' },
    ]);
    expect(await all('huts', "name = 'Red Scree'")).toMatchObject([{ position: null, bunks: null, built: null }]);
  });

  it('makes the fields an open environment lacks, by what all of a column is', async () => {
    await load('trails', 'csv', 'name,lengthKm,stages,open,on,code\na,12,3,true,2026-07-14,007\nb,7.5,4,false,2026-07-15,12\n');
    const { fields } = await test.owner.call(operations.collections.read, { params: params('trails') });
    expect(Object.fromEntries(fields.map(({ name, type }) => [name, type]))).toEqual({
      name: 'text',
      lengthKm: 'number',
      stages: 'integer',
      open: 'boolean',
      on: 'date',
      code: 'text',
    });
  });

  it('goes on past bad rows, and says line and reason of each', async () => {
    const report = await load(
      'huts',
      'csv',
      'id,name,bunks,region\nok-1,One,1,north\nbad-1,,2,north\nbad-2,Two,many,north\nok-1,Twin,1,south\nbad-3,Three,3,west\nok-2,Four,4,south\nbad-4,Five\n',
    );
    expect(report).toMatchObject({ stored: 2, rejected: 5 });
    expect(report.rejects.map(({ line, reason }: { line: number; reason: string }) => [line, reason])).toEqual([
      [3, expect.stringContaining('`name` in `huts` is required')],
      [4, expect.stringContaining('must be an integer; got "many"')],
      [5, expect.stringContaining('a record with the id ok-1 already')],
      [6, expect.stringContaining('must be one of north, south; got "west"')],
      [8, expect.stringContaining('2 cells; the header has 4')],
    ]);
  });
});

describe('strictly', () => {
  it('stores nothing when one row does not fit, wherever it shows', async () => {
    const rows = Array.from({ length: 2500 }, (_, i) => JSON.stringify({ id: `s${i}`, name: `S ${i}`, bunks: i }));
    await expect(load('huts', 'ndjson', [...rows, '{"name":5}'].join('\n'), { strict: true })).rejects.toMatchObject({
      problem: 'import-refused',
      detail: expect.stringContaining('Line 2501: Field `name` in `huts` must be text; got 5.'),
    });
    await expect(load('huts', 'ndjson', [...rows, '{"id":"s7","name":"again"}'].join('\n'), { strict: true })).rejects.toMatchObject({
      detail: expect.stringContaining('Line 2501:'),
    });
    expect(await all('huts', "id LIKE 's%'")).toEqual([]);
    expect(await load('huts', 'ndjson', rows.join('\n'), { check: true })).toMatchObject({ stored: 2500, rejected: 0 });
    expect(await all('huts', "id LIKE 's%'")).toEqual([]);
    expect(await load('huts', 'ndjson', rows.join('\n'), { strict: true })).toMatchObject({ stored: 2500 });
    expect(await load('huts', 'ndjson', '{"id":"last","name":"L"}\n\n  \nnot json\n[1]')).toMatchObject({
      stored: 1,
      rejects: [
        { line: 4, reason: expect.stringContaining('cannot be read as JSON') },
        { line: 5, reason: 'The line is not a JSON object.' },
      ],
    });
  });

  it('tells how far it is while it goes on', async () => {
    const reply = await test.owner.open(operations.collections.importRecords, {
      params: params('huts'),
      query: { format: 'ndjson', progress: 'true' as never },
      raw: Array.from({ length: 3000 }, (_, i) => `{"name":"P ${i}"${i === 1700 ? ',"bunks":"x"' : ''}}`).join('\n'),
    });
    const lines = (await reply.text())
      .trim()
      .split('\n')
      .map((line) => JSON.parse(line));
    expect(lines.filter(({ stored }) => stored !== undefined).map(({ stored }) => stored)).toEqual([1000, 1999, 2999]);
    expect(lines.find(({ reject }) => reject)).toMatchObject({ reject: { line: 1701, row: '{"name":"P 1700","bunks":"x"}' } });
    expect(lines.at(-1)).toMatchObject({ report: { stored: 2999, rejected: 1 } });
  });
});

describe('GeoJSON', () => {
  it('is read feature by feature, and refused where it is something else', async () => {
    const feature = (id: string, geometry: object | null) => ({ type: 'Feature', id, geometry, properties: { name: `Hut ${id}` } });
    const collection = {
      type: 'FeatureCollection',
      features: [
        feature('g1', { type: 'Point', coordinates: [8, 61] }),
        feature('g2', null),
        feature('g3', { type: 'LineString', coordinates: [] }),
        { type: 'Thing' },
      ],
    };
    expect(await load('huts', 'geojson', JSON.stringify(collection))).toMatchObject({
      stored: 2,
      rejects: [
        { line: 3, reason: 'Its geometry is LineString; places are Points.' },
        { line: 4, reason: 'It is not a GeoJSON Feature.' },
      ],
    });
    expect(
      await load(
        'huts',
        'geojson',
        '{"type":"FeatureCollection","features":[{"type":"Feature","properties":{"name":"cut"},"geometry":null},',
      ),
    ).toMatchObject({ stored: 1, rejects: [{ reason: expect.stringContaining('JSON') }] });
    expect((await load('huts', 'geojson', '{"type":"Feature"}')).rejects[0].reason).toContain('no `features`');
  });
});

it.each(['csv', 'ndjson', 'geojson'] as const)('brings everything back from %s as it was', async (format) => {
  const texts = fc
    .string({ unit: 'grapheme', maxLength: 8 })
    .filter((text) => text.isWellFormed() && text.trim() === text && text !== '' && !text.includes('\0'));
  const rows = fc.array(
    fc.record({
      name: texts,
      region: fc.constantFrom('north', 'south', null),
      bunks: fc.option(fc.integer()),
      built: fc.constantFrom('1932-06-01', null),
      position: fc.option(
        fc
          .tuple(fc.double({ min: -180, max: 180, noNaN: true }), fc.double({ min: -90, max: 90, noNaN: true }))
          .map((coordinates) => ({ type: 'Point', coordinates })),
      ),
    }),
    { minLength: 30, maxLength: 30 },
  );
  const [sample] = fc.sample(rows, 1);
  const stamp = format.slice(0, 2);
  const lines = (sample ?? []).map((row, i) => JSON.stringify({ ...row, id: `${stamp}${i}` }));
  expect(await load('huts', 'ndjson', lines.join('\n'))).toMatchObject({ stored: 30 });
  const file = await save('huts', format, { filter: `id LIKE '${stamp}%'` });
  expect(await load('copies', format, file)).toMatchObject({ stored: 30, rejects: [] });
  const plain = (records: Record<string, unknown>[]) =>
    records.map(({ createdAt: _c, updatedAt: _u, ...rest }: Record<string, unknown>) => rest);
  expect(plain(await all('copies', `id LIKE '${stamp}%'`))).toEqual(plain(await all('huts', `id LIKE '${stamp}%'`)));
});

it.each([
  [{ format: 'xml' }, 'one of csv, ndjson, geojson'],
  [{ format: 'csv', columns: 'nope' }, '`columns` is not JSON'],
])('refuses an import with %j', async (query, words) => {
  await expect(load('huts', query.format as 'csv', 'a\n1', query)).rejects.toMatchObject({
    status: 422,
    detail: expect.stringContaining(words),
  });
});
