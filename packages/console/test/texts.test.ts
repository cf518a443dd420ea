/** What the console writes and reads as text: numbers, values, filters, prices, files, code. */
import { type Collection, operations } from '@orchard/contract';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { describeFile, formatOf, sampleOf } from '../src/data/fileSample.js';
import { namesOf } from '../src/data/names.js';
import { showValue } from '../src/data/value.js';
import { linesOf, pricesOf } from '../src/messaging/prices.js';
import { PLATFORMS, firstCalls } from '../src/pages/firstCallsCode.js';
import { audienceWords } from '../src/messaging/audienceWords.js';
import { completions, type Names, partsOf, withCondition } from '../src/parts/filterBar.js';
import { bytes, count, counted, duration, inWords, milliseconds, readable } from '../src/parts/format.js';
import { coded } from '../src/parts/fromCode.js';
import { objectOf } from '../src/parts/json.js';
import { changedIds } from '../src/parts/news.js';

describe('numbers', () => {
  it.each([
    [count(1_234_567), '1,234,567'],
    [counted(1, 'device'), '1 device'],
    [counted(0, 'device'), '0 devices'],
    [counted(1204, 'reply', 'replies'), '1,204 replies'],
    [milliseconds(null), '–'],
    [milliseconds(7.54), '7.5 ms'],
    [milliseconds(1234.4), '1,234 ms'],
    [milliseconds(12_340), '12.3 s'],
    [bytes(980), '980 bytes'],
    [bytes(12_400), '12 kB'],
    [bytes(1_440_000), '1.4 MB'],
    [duration(90), '90 seconds'],
    [duration(60), '1 minute'],
    [duration(86_400), '24 hours'],
    [duration(172_800), '2 days'],
    [duration(5400), '90 minutes'],
    [duration(0), '0 seconds'],
    [inWords('systemId'), 'System id'],
    [inWords('total'), 'Total'],
  ])('%s', (written, expected) => expect(written).toBe(expected));

  it('a duration says exactly what it lasts', () => {
    const lengths: Record<string, number> = { second: 1, minute: 60, hour: 3600, day: 86_400 };
    fc.assert(
      fc.property(fc.nat(10_000_000), (seconds) => {
        const [number = '', unit = ''] = duration(seconds).split(' ');
        expect(Number(number.replaceAll(',', '')) * (lengths[unit.replace(/s$/, '')] ?? Number.NaN)).toBe(seconds);
      }),
    );
  });

  it('a path is decoded where that is possible', () => {
    expect(readable('/data/h%C3%BCtte')).toBe('/data/hütte');
    expect(readable('/data/50%')).toBe('/data/50%');
  });
});

describe('a value in a table', () => {
  it.each([
    [{ type: 'Point', coordinates: [8.3412, -61.355] }, '61.355° S, 8.341° E'],
    [['stove', 'radio'], 'stove, radio'],
    [[1, { a: 2 }], '[1,{"a":2}]'],
    [{ bunks: 12 }, '{"bunks":12}'],
    [null, ''],
    [undefined, ''],
    [false, 'false'],
    [0, '0'],
  ])('%j', (value, text) => expect(showValue(value as never)).toBe(text));
});

describe('an object typed as JSON', () => {
  it.each([
    ['', {}],
    ['{"a":1}', { a: 1 }],
    ['[1]', undefined],
    ['null', undefined],
    ['"text"', undefined],
    ['{"a":', undefined],
  ])('%j', (text, object) => expect(objectOf(text)).toEqual(object));
});

describe('the filter bar', () => {
  const names: Names = new Map([
    ['name', { kind: 'text' }],
    ['bunks', { kind: 'number' }],
    ['open', { kind: 'boolean' }],
    ['state', { kind: 'text', choices: ['open', 'full'] }],
    ['updatedAt', { kind: 'time' }],
  ]);

  it.each<[string, string[]]>([
    ['', ['name', 'bunks', 'open', 'state', 'updatedAt']],
    ['bu', ['bunks']],
    ['bunks ', ['=', '<>', '<', '<=', '>', '>=', 'BETWEEN', 'IS NULL', 'IS NOT NULL']],
    ['state = ', ["'open'", "'full'"]],
    ['open = T', ['TRUE']],
    ['updatedAt > ', ['now()']],
    ['bunks > 3 ', ['AND', 'OR']],
    ["name = 'Cold ", []],
    ['bunks > 3 AND di', ['distance(']],
  ])('after %j come %j', (before, words) => expect(completions(before, names).words).toEqual(words));

  it('takes a filter apart at AND alone, and puts it together again', () => {
    expect(partsOf("bunks > 3 AND (state = 'open' OR state = 'full') AND name LIKE 'C%'")).toEqual([
      'bunks > 3',
      "(state = 'open' OR state = 'full')",
      "name LIKE 'C%'",
    ]);
    expect(partsOf('bunks > 3 OR open = TRUE')).toEqual(['bunks > 3 OR open = TRUE']);
    expect(partsOf('bunks >')).toEqual([]);
  });

  it('adds a condition that holds beside all there are', () => {
    expect(withCondition('', 'bunks > 3')).toBe('bunks > 3');
    expect(withCondition('bunks > 3', 'open = TRUE')).toBe('bunks > 3 AND open = TRUE');
    expect(withCondition('bunks > 3 OR open = TRUE', "state = 'open'")).toBe("(bunks > 3 OR open = TRUE) AND state = 'open'");
  });

  it('knows the fields of a collection, and those its references lead to', () => {
    const hut = { name: 'huts', indexes: [], fields: [{ name: 'region', type: 'choice', choices: ['north', 'south'] }] };
    const booking = {
      name: 'bookings',
      indexes: [],
      fields: [
        { name: 'nights', type: 'integer' },
        { name: 'hut', type: 'reference', to: 'huts' },
        { name: 'guest', type: 'reference', to: 'users' },
        { name: 'gone', type: 'reference', to: 'nowhere' },
      ],
    };
    const known = namesOf(booking as never, [hut, booking] as unknown as Collection[]);
    expect(known.get('nights')).toMatchObject({ kind: 'number' });
    expect(known.get('hut.region')).toEqual({ kind: 'text', choices: ['north', 'south'] });
    expect(known.get('guest.email')).toEqual({ kind: 'text' });
    expect(known.get('createdAt')).toEqual({ kind: 'time' });
    expect([...known.keys()].filter((name) => name.startsWith('gone.'))).toEqual([]);
  });
});

describe('prices', () => {
  it('are read as they are written', () => {
    const prices = fc.dictionary(
      fc.stringMatching(/^[A-Z]{2}$/),
      fc.integer({ min: 0, max: 100_000 }).map((n) => n / 1000),
    );
    fc.assert(
      fc.property(prices, (some) => {
        expect(pricesOf(linesOf(some))).toEqual({ ...some });
      }),
    );
  });

  it.each(['NOR 0.06', 'NO', 'NO 0,06', '0.06 NO', 'NO -1'])('%j is shown as the line that is wrong', (line) => {
    expect(pricesOf(`SE 0.05\n${line}`)).toBe(line);
  });

  it('take small letters and blank lines', () => expect(pricesOf('\n no 0.06 \n\n')).toEqual({ NO: 0.06 }));
});

describe('a file to import', () => {
  const file = (name: string, text: string) => new File([text], name);

  it.each([
    ['huts.geojson', 'geojson'],
    ['huts.JSON', 'geojson'],
    ['huts.ndjson', 'ndjson'],
    ['huts.jsonl', 'ndjson'],
    ['huts.csv', 'csv'],
    ['huts.txt', 'csv'],
  ])('%s is read as %s', (name, format) => expect(formatOf(file(name, ''))).toBe(format));

  it('is described by size and delimiter', async () => {
    expect(await describeFile(file('huts.csv', 'a,b\n1,2\n'))).toBe('huts.csv, 8 bytes');
    expect(await describeFile(file('huts.csv', 'a;b\n1;2\n'))).toBe('huts.csv, 8 bytes, delimiter ;');
    expect(await describeFile(file('huts.csv', 'a\tb\n1\t2\n'))).toBe('huts.csv, 8 bytes, delimiter tab');
    expect(await describeFile(file('huts.ndjson', '{"a;b":1}'))).toBe('huts.ndjson, 9 bytes');
  });

  it('shows the type and some values of each column of a CSV', async () => {
    const csv = 'Name;Bunks;Opens\r\nCold Tarn;24;2026-06-01\r\nFellgate;48;\r\nLarkspur;26;2026-06-15\r\n';
    expect(await sampleOf(file('huts.csv', csv), 'csv')).toEqual([
      { name: 'Name', type: 'text', values: ['Cold Tarn', 'Fellgate', 'Larkspur'] },
      { name: 'Bunks', type: 'integer', values: ['24', '48', '26'] },
      { name: 'Opens', type: 'date', values: ['2026-06-01', '2026-06-15'] },
    ]);
  });

  it('shows the members of NDJSON, and passes over a line that is cut', async () => {
    const lines = '{"name":"Cold Tarn","bunks":24}\n{"name":"Fellgate","position":{"type":"Point","coordinates":[8,61]}}\n{"na';
    expect(await sampleOf(file('huts.ndjson', lines), 'ndjson')).toEqual([
      { name: 'name', type: 'text', values: ['Cold Tarn', 'Fellgate'] },
      { name: 'bunks', type: 'integer', values: ['24'] },
      { name: 'position', type: 'place', values: ['{"type":"Point","coordinates":[8,61]}'] },
    ]);
  });

  it('leaves a GeoJSON file to the service', async () => expect(await sampleOf(file('huts.geojson', '{}'), 'geojson')).toEqual([]));
});

describe('an audience', () => {
  it.each([
    [{ everyone: true }, 'everyone'],
    [{ user: '01a20000-0000-7000-8000-0123456789ab' }, 'user …456789ab'],
    [{ users: ['01a20000-0000-7000-8000-0123456789ab'] }, 'user …456789ab'],
    [{ users: ['a', 'b'] }, '2 users'],
    [{ devices: ['phone-1'] }, 'device phone-1'],
    [{ phones: ['+12025550142', '+12025550143'] }, '2 numbers'],
    [{ addresses: ['wren@hikers.example'] }, 'wren@hikers.example'],
    [{ topics: { any: ['ridge', 'river'], not: ['muted'] } }, 'followers of ridge or river, not of muted'],
    [{ topics: { all: ['ridge', 'river'] }, filter: "platform = 'ios'" }, "followers of ridge and river, devices where platform = 'ios'"],
  ])('%j', (audience, words) => expect(audienceWords(audience as never)).toBe(words));
});

describe('code for a page', () => {
  // Other files share this worker, and some packages take a window for a browser.
  beforeAll(() => void vi.stubGlobal('window', { location: { origin: 'https://orchard.quillfell.example' } }));
  afterAll(() => void vi.unstubAllGlobals());

  it('is one call as a command, over HTTP and with the library', () => {
    const { command, http, library } = coded(operations.records.list, {
      params: { collection: 'huts' },
      query: { filter: "name = 'Rider''s Rest'", limit: 5 },
    } as never);
    expect(command).toBe(`orchard record list huts --filter 'name = '\\''Rider'\\'''\\''s Rest'\\''' --limit 5`);
    expect(http).toContain("curl -X GET 'https://orchard.quillfell.example/app/v1/data/huts?filter=");
    expect(http).toContain("-H 'Orchard-Key: <client key>'");
    expect(library).toBe(`await orchard.collection("huts").list({"filter":"name = 'Rider''s Rest'","limit":5});`);
  });

  it('of a member’s write has the member’s token and the body', () => {
    const { http, library } = coded(operations.topics.put, {
      params: { app: 'quillfell-hiker', environment: 'dev', topic: 'ridge' },
      body: { title: 'Ridge' },
    } as never);
    expect(http).toBe(
      [
        'curl -X PUT https://orchard.quillfell.example/manage/v1/apps/quillfell-hiker/environments/dev/topics/ridge',
        "-H 'Authorization: Bearer <member token>'",
        "-H 'Content-Type: application/json'",
        `-d '{"title":"Ridge"}'`,
      ].join(' \\\n  '),
    );
    expect(library).toBeUndefined();
  });

  it.each(PLATFORMS.map(({ id }) => id))('for %s has the steps with address and key filled in', (platform) => {
    const steps = firstCalls(platform, 'https://orchard.quillfell.example', 'ckey-abc');
    expect(steps.map(({ done }) => done)).toEqual(['call', 'user', 'record', 'device', 'event'].slice(0, steps.length));
    const all = steps.map(({ code }) => code).join('\n');
    expect(all).toContain('https://orchard.quillfell.example');
    expect(all).toContain('ckey-abc');
    expect(all).toMatch(/altitudeM( >|%20%3E)/);
  });
});

it('marks the rows that are new or different, and none of a first answer', () => {
  const before = new Map([
    ['a', '1'],
    ['b', '2'],
  ]);
  expect(changedIds(null, before)).toEqual([]);
  expect(changedIds(before, new Map([...before, ['b', '3'], ['c', '4']]))).toEqual(['b', 'c']);
  expect(changedIds(before, new Map([['a', '1']]))).toEqual([]);
});
