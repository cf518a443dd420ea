/** What commands print for people and for programs, and the words they complete. */
import { mkdirSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { Command } from 'commander';
import { afterAll, afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { scratchDirectory } from '../../service/test/scratch.js';
import { complete, completionScript, SHELLS } from '../src/completion.js';
import { wholeNumber } from '../src/numbers.js';
import { type Columns, printItem, printList, printText } from '../src/output.js';
import { profileOf, readSettings, writeSettings } from '../src/settings.js';

type Hut = { name: string; bunks: number | null; open: boolean; amenities: string[]; updatedAt: string };
const HUTS: Hut[] = [
  { name: 'Cold Tarn', bunks: 24, open: true, amenities: ['stove', 'radio'], updatedAt: '2026-07-14T06:00:00.000Z' },
  { name: 'Dunmere, "old"', bunks: null, open: false, amenities: [], updatedAt: '2026-07-13T22:15:30.500Z' },
];
const COLUMNS: Columns<Hut> = ['name', 'bunks', 'open', 'amenities', 'updatedAt', ['half', ({ bunks }) => (bunks ?? 0) / 2]];
let out = '';
let err = '';
beforeEach(() => {
  out = '';
  err = '';
  vi.spyOn(process.stdout, 'write').mockImplementation((text) => ((out += String(text)), true));
  vi.spyOn(process.stderr, 'write').mockImplementation((text) => ((err += String(text)), true));
});
afterEach(() => vi.restoreAllMocks());
const options = (more: object = {}) => ({ quiet: false, ...more }) as never;

describe('a list', () => {
  it('is a table for people: numbers to the right, times short, no lines and no spaces at the ends', () => {
    printList(HUTS, COLUMNS, options());
    expect(out.split('\n')).toEqual([
      'name            bunks  open  amenities    updatedAt            half',
      'Cold Tarn          24  yes   stove radio  2026-07-14 06:00:00    12',
      'Dunmere, "old"                            2026-07-13 22:15:30     0',
      '',
    ]);
  });

  it('is CSV with whole values, quoted where RFC 4180 asks for it', () => {
    printList(HUTS, COLUMNS, options({ csv: true }));
    expect(out).toBe(
      'name,bunks,open,amenities,updatedAt,half\n' +
        'Cold Tarn,24,true,"[""stove"",""radio""]",2026-07-14T06:00:00.000Z,12\n' +
        '"Dunmere, ""old""",,false,[],2026-07-13T22:15:30.500Z,0\n',
    );
  });

  it('is JSON as it came, with the cursor of the next page', () => {
    printList(HUTS, COLUMNS, options({ json: true }), 'abc');
    expect(JSON.parse(out)).toEqual({ items: HUTS, next: 'abc' });
  });

  it('says that there is more, and that there is nothing, on standard error', () => {
    printList(HUTS, COLUMNS, options(), 'abc');
    expect(err).toBe('There is more: --cursor abc\n');
    printList([], COLUMNS, options());
    expect(err).toBe('There is more: --cursor abc\nNothing found.\n');
    printList([], COLUMNS, options({ quiet: true }));
    expect(err).toBe('There is more: --cursor abc\nNothing found.\n');
  });

  it('lets no stored text steer the terminal', () => {
    printList([{ ...HUTS[0], name: 'Cold\u001b[31m Tarn\u0007' } as Hut], COLUMNS, options());
    expect(out).toContain('Cold·[31m Tarn·');
    expect(printText('line\nnext\ttab')).toBe('line\nnext\ttab');
  });
});

it('one item is a line for each field, or JSON', () => {
  printItem({ name: 'Cold Tarn', bunks: 24, position: { type: 'Point' }, warden: null }, options());
  expect(out).toBe('name      Cold Tarn\nbunks     24\nposition  {"type":"Point"}\nwarden    \n');
  out = '';
  printItem({ name: 'Cold Tarn' }, options({ json: true }));
  expect(JSON.parse(out)).toEqual({ name: 'Cold Tarn' });
});

describe('a whole number', () => {
  it.each([
    ['7', 1, 10, 7],
    ['+3', 0, 5, 3],
    ['-2', -5, 5, -2],
    ['0', 0, undefined, 0],
  ])('%s from %i to %s', (text, least, most, number) => expect(wholeNumber(least, most)(text)).toBe(number));

  it.each(['11', '0', '1.5', '1e3', '', ' 7', 'seven', '0x7'])('%j is refused with the bounds', (text) => {
    expect(() => wholeNumber(1, 10)(text)).toThrow('Must be a whole number from 1 to 10.');
  });

  it('without an upper bound is refused with the lower one', () =>
    expect(() => wholeNumber(2)('1')).toThrow('Must be a whole number of at least 2.'));
});

describe('completion', () => {
  const program = new Command('orchard').option('--json').option('--app <app>');
  const record = program.command('record');
  record.command('list').option('--filter <cql2>').option('--fields <names>');
  record.command('add');
  program.command('request');
  program.command('complete');

  it.each([
    [[''], ['record', 'request']],
    [['re'], ['record', 'request']],
    [
      ['record', ''],
      ['list', 'add'],
    ],
    [['record', 'l'], ['list']],
    [
      ['record', 'list', '--f'],
      ['--filter', '--fields'],
    ],
    [['record', 'list', '--js'], ['--json']],
    [['record', 'list', 'huts', ''], []],
    [
      ['weather', ''],
      ['record', 'request'],
    ],
  ])('%j', (words, found) => expect(complete(program, words)).toEqual(found));

  it.each(SHELLS)('has a script for %s, which asks the command', (shell) =>
    expect(completionScript(shell)).toMatch(/orchard complete -- /),
  );
});

describe('settings', () => {
  const home = scratchDirectory('settings');
  const before = process.env.XDG_CONFIG_HOME;
  afterAll(() => {
    if (before === undefined) delete process.env.XDG_CONFIG_HOME;
    else process.env.XDG_CONFIG_HOME = before;
    rmSync(home, { recursive: true, force: true });
  });
  beforeEach(() => {
    process.env.XDG_CONFIG_HOME = home;
  });
  const profile = { address: 'http://127.0.0.1:7450', email: 'mira@quillfell.example', token: 'mtok-x' };

  it('are kept where only their owner reads them', () => {
    expect(readSettings()).toEqual({ current: 'default', profiles: {} });
    writeSettings({ current: 'work', profiles: { work: profile } });
    expect(readSettings()).toEqual({ current: 'work', profiles: { work: profile } });
    expect(statSync(join(home, 'orchard', 'settings.json')).mode & 0o777).toBe(0o600);
    expect(statSync(join(home, 'orchard')).mode & 0o777).toBe(0o700);
  });

  it('that cannot be read count as none', () => {
    mkdirSync(join(home, 'orchard'), { recursive: true });
    writeFileSync(join(home, 'orchard', 'settings.json'), '{"current":');
    expect(readSettings().profiles).toEqual({});
  });

  it('have a profile by its own name alone', () => {
    const settings = { current: 'work', profiles: { work: profile } };
    expect(profileOf(settings, 'work')).toEqual(profile);
    expect(profileOf(settings, 'constructor')).toBeUndefined();
  });
});
