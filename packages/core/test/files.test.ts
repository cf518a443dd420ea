import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  bothConditions,
  compileEvaluator,
  composeFolderRules,
  FilePathError,
  foldersAbove,
  inFolder,
  isHashedName,
  liesIn,
  movedPath,
  OWNER_ONLY,
  readFilePath,
  readFilter,
  siteAnswer,
  siteDifference,
  siteHeaders,
} from '../src/index.js';

const name = fc.stringMatching(/^[a-zæøå0-9][a-zæøå0-9_%-]{0,12}$/).filter((text) => !/^(con|prn|aux|nul)$|^(com|lpt)\d$/.test(text));
const path = fc.array(name, { minLength: 1, maxLength: 5 }).map((parts) => parts.join('/'));
const folder = fc.oneof(fc.constant(''), path);

describe('the path of a file', () => {
  it('is read into folder and name, in one form of Unicode', () => {
    fc.assert(
      fc.property(path, (text) => {
        const read = readFilePath(text);
        expect([read.folder, read.name].filter(Boolean).join('/')).toBe(read.path);
        expect(readFilePath(read.path)).toEqual(read);
      }),
    );
    expect(readFilePath('Cafe\u0301.txt').path).toBe('Caf\u00e9.txt');
  });

  it.each([
    '',
    '/a',
    'a/',
    'a//b',
    '..',
    'a/../b',
    'a\u0000b',
    'a\u202eb',
    'a\u200bb',
    'a\\b',
    'a:b',
    'COM1',
    'nul.txt',
    'a.',
    ' a',
    '@id',
    `${'x'.repeat(256)}`,
    '\ud800',
  ])('refuses %j', (text) => {
    expect(() => readFilePath(text)).toThrow(FilePathError);
  });

  it('moves with its folder, and lies where it says', () => {
    fc.assert(
      fc.property(path, folder, folder, (below, from, to) => {
        const whole = [from, below].filter(Boolean).join('/');
        expect(movedPath(whole, from, to)).toBe([to, below].filter(Boolean).join('/'));
        const { folder: at } = readFilePath(whole);
        expect(liesIn(at, from)).toBe(true);
        expect(foldersAbove(at).at(-1)).toBe('');
        for (const above of foldersAbove(at)) expect(liesIn(at, above)).toBe(true);
      }),
    );
  });
});

describe('conditions on folders', () => {
  const scope = {
    kindOf: ([field]: readonly string[]) => (field === undefined ? null : ('text' as const)),
    names: () => ['folder', 'rulesFrom', 'ownerId'],
  };
  const holds = (filter: string, record: Record<string, string>) =>
    compileEvaluator(readFilter(filter, scope))(record, { me: { id: 'runa', roles: [], fields: {} }, now: 0 }) === true;

  it('find just what lies in a folder, or below it', () => {
    fc.assert(
      fc.property(folder, folder, (at, asked) => {
        const deep = inFolder(asked, true);
        expect(deep === null || holds(deep, { folder: at })).toBe(liesIn(at, asked));
        expect(holds(inFolder(asked, false) as string, { folder: at })).toBe(at === asked);
      }),
    );
    expect(() => bothConditions("folder = 'a'", 'size > 1) OR (size < 2')).toThrow();
  });

  it.each([
    "ownerId = 'runa' OR ownerId = 'odd'",
    JSON.stringify({ op: 'or', args: [true, true] }),
    JSON.stringify({ op: 'or', args: [{ op: '=', args: [{ property: 'ownerId' }, 'odd'] }, true] }),
  ])('hold whatever else is asked for: %s', (filter) => {
    const both = bothConditions("folder = 'a'", filter) as string;
    expect(holds(both, { folder: 'a', ownerId: 'odd' })).toBe(true);
    expect(holds(both, { folder: 'b', ownerId: 'odd' })).toBe(false);
  });

  it('say where the other filter is wrong, as it was written', () => {
    const reading = (filter: string) => () => readFilter(bothConditions("folder = 'a'", filter) as string, scope);
    expect(reading('LIKEWISE(folder)')).toThrow('(at character 1 of the filter)');
    expect(reading(JSON.stringify({ op: 'constructor', args: [] }))).toThrow('There is no function `constructor`');
  });

  it('are the rules of each folder for its own files alone', () => {
    const rules = composeFolderRules(
      new Map([
        ['', OWNER_ONLY],
        ["o'shaughnessy", { read: 'TRUE', create: 'FALSE', update: 'FALSE', delete: 'FALSE' }],
      ]),
    );
    expect(holds(rules.read, { rulesFrom: "o'shaughnessy", ownerId: 'odd' })).toBe(true);
    expect(holds(rules.read, { rulesFrom: '', ownerId: 'odd' })).toBe(false);
    expect(holds(rules.update, { rulesFrom: "o'shaughnessy", ownerId: 'runa' })).toBe(false);
    expect(composeFolderRules(new Map([['', { read: 'FALSE', create: 'false', update: 'FALSE', delete: 'FALSE' }]])).read).toBe('FALSE');
  });
});

describe('a site', () => {
  const files = new Set(['index.html', 'a/index.html', 'about.html', 'app.js', '404.html']);
  const answer = (at: string, settings: Partial<Parameters<typeof siteAnswer>[1]> = {}) =>
    siteAnswer((file) => files.has(file), { redirects: [], fallback: null, ...settings }, at);

  it.each([
    ['/', { file: 'index.html', status: 200 }],
    ['/a', { to: '/a/', status: 308 }],
    ['/a/', { file: 'a/index.html', status: 200 }],
    ['/about', { file: 'about.html', status: 200 }],
    ['/app.js', { file: 'app.js', status: 200 }],
    ['/none', { file: '404.html', status: 404 }],
  ])('answers %s', (at, expected) => {
    expect(answer(at)).toEqual(expected);
  });

  it('leads pages, not pictures, to its fallback, and goes by its redirects first', () => {
    const settings = { fallback: 'index.html', redirects: [{ from: '/old/*', to: '/a/*', status: 301 as const }] };
    expect(answer('/huts/7', settings)).toEqual({ file: 'index.html', status: 200 });
    expect(answer('/huts/7.png', settings)).toEqual({ file: '404.html', status: 404 });
    expect(answer('/old/x/y', settings)).toEqual({ to: '/a/x/y', status: 301 });
  });

  it('has headers by path, the later one first, and knows names with a hash', () => {
    const headers = [
      { path: '/*', name: 'Cache-Control', value: 'a' },
      { path: '/x/*', name: 'cache-control', value: 'b' },
    ];
    expect([siteHeaders(headers, '/y').get('cache-control'), siteHeaders(headers, '/x/1').get('cache-control')]).toEqual(['a', 'b']);
    expect(['app-4f9a2b7c.js', 'app.Dk29fK1a.css', 'index.html', 'documents.html', 'a-longword.js'].map(isHashedName)).toEqual([
      true,
      true,
      false,
      false,
      false,
    ]);
  });

  it('differs by what was added, changed and removed, and by nothing from itself', () => {
    const version = fc
      .dictionary(name, fc.record({ digest: fc.constantFrom<string>('a', 'b'), size: fc.nat() }))
      .map((all) => new Map(Object.entries(all)));
    fc.assert(
      fc.property(version, version, (before, after) => {
        expect(siteDifference(before, before)).toEqual([]);
        const rebuilt = new Map(before);
        for (const { path: at, change } of siteDifference(before, after))
          if (change === 'removed') rebuilt.delete(at);
          else rebuilt.set(at, after.get(at) as { digest: string; size: number });
        expect([...rebuilt].map(([at, { digest }]) => [at, digest]).sort()).toEqual(
          [...after].map(([at, { digest }]) => [at, digest]).sort(),
        );
      }),
    );
  });
});
