/** Comparing texts: case, accents, order, patterns, and names that are nearly right. */
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { compareText, foldAccents, foldCase, matchPattern, readPattern, writePattern } from '../src/filter/folding.js';
import { nearest } from '../src/filter/nearest.js';
import { parseTemplate, pointAt, pointerNames, textsOf, unknownVariable } from '../src/messages/template.js';

const text = fc.string({ unit: 'grapheme' });

describe('folding', () => {
  it.each([
    ['Cold Tarn', 'cold tarn'],
    ['ÆØÅ', 'æøå'],
    ['İstanbul', 'istanbul'],
    ['ΣΑΣ', 'σασ'],
  ])('%s in lower case is %s', (from, to) => expect(foldCase(from)).toBe(to));

  it.each([
    ['Lac de l’Été', 'Lac de l’Ete'],
    ['Žižkov', 'Zizkov'],
    ['Ελλάδα', 'Ελλαδα'],
    ['ёлка', 'елка'],
    ['e\u0301', 'e'],
    ['Ø', 'Ø'],
  ])('%s without accents is %s', (from, to) => expect(foldAccents(from)).toBe(to));

  it('changes nothing when it is done again', () => {
    fc.assert(
      fc.property(text, (one) => {
        expect(foldCase(foldCase(one))).toBe(foldCase(one));
        expect(foldAccents(foldAccents(one))).toBe(foldAccents(one));
      }),
    );
  });
});

describe('the order of texts', () => {
  it('is that of their UTF-8 bytes', () => {
    fc.assert(
      fc.property(text, text, (a, b) => {
        expect(Math.sign(compareText(a, b))).toBe(Math.sign(Buffer.compare(Buffer.from(a), Buffer.from(b))));
      }),
    );
  });

  it('has characters beyond the basic plane after all others', () => expect(compareText('\u{1f600}', '\uffee')).toBeGreaterThan(0));
});

describe('a pattern', () => {
  const pattern = fc
    .array(fc.constantFrom('a', 'b', '%', '_', '\\', 'é', '.', '*', '\u{1f600}'), { maxLength: 8 })
    .map((parts) => parts.join(''));
  /** The same pattern as a regular expression, by the words of the standard. */
  function asRegExp(of: string): RegExp {
    let source = '';
    const letters = [...of];
    for (let i = 0; i < letters.length; i++) {
      const letter = letters[i] as string;
      const plain = (one: string) => one.replace(/[.*+?^${}()|[\]\\]/g, '\\$&');
      if (letter === '\\') source += plain(letters[++i] ?? '\\');
      else source += letter === '%' ? '[\\s\\S]*' : letter === '_' ? '[\\s\\S]' : plain(letter);
    }
    return new RegExp(`^${source}$`, 'u');
  }

  it('matches what a regular expression of the same meaning matches', () => {
    const tried = fc
      .array(fc.constantFrom('a', 'b', 'é', '.', '*', '%', '_', '\\', '\u{1f600}'), { maxLength: 8 })
      .map((parts) => parts.join(''));
    fc.assert(
      fc.property(pattern, tried, (of, one) => {
        expect(matchPattern(readPattern(of))(one)).toBe(asRegExp(of).test(one));
      }),
      { numRuns: 3000 },
    );
  });

  it('means the same when it is written again', () => {
    fc.assert(
      fc.property(pattern, (of) => {
        expect(readPattern(writePattern(readPattern(of)))).toEqual(readPattern(of));
      }),
    );
  });

  it('takes each character of a text for itself when all are escaped', () => {
    fc.assert(
      fc.property(text, (one) => {
        const parts = readPattern(one.replace(/[\\%_]/g, '\\$&'));
        expect(matchPattern(parts)(one)).toBe(true);
        expect(matchPattern(parts)(`${one}x`)).toBe(false);
      }),
    );
  });
});

describe('a name that is nearly right', () => {
  it.each([
    ['limt', ['limit', 'filter'], '; did you mean `limit`?'],
    ['Bunks', ['bunks', 'banks'], '; did you mean `bunks`?'],
    ['altitude', ['altitudeM', 'state'], '; did you mean `altitudeM`?'],
    ['colour', ['bunks', 'name'], ''],
    ['x'.repeat(101), ['x'.repeat(100)], ''],
    ['a', [], ''],
    ['titel', ['title', 'role'], '; did you mean `title`?'],
  ])('%s among %j', (name, known, words) => expect(nearest(name, known)).toBe(words));

  it('is found with any one character missing, doubled or replaced', () => {
    const known = ['bookings', 'hazards', 'trails'];
    fc.assert(
      fc.property(fc.constantFrom(...known), fc.nat(5), fc.constantFrom('', 'xx', 'q'), (name, at, by) => {
        expect(nearest(name.slice(0, at) + by + name.slice(at + 1), known)).toBe(`; did you mean \`${name}\`?`);
      }),
    );
  });
});

describe('the variables of a template', () => {
  const known = { user: { name: true, email: true }, data: 'open', badge: true } as const;
  it.each([
    ['{user.name}', null],
    ['{data.any.depth}', null],
    ['{badge}', null],
    ['{user}', '`user` is a group; name what is in it: user.name, user.email'],
    ['{user.nam}', 'There is no variable `user.nam`; did you mean `user.name`?'],
    ['{weather}', 'There is no variable `weather`; there is user, data, badge'],
    ['{badge.number}', 'There is no variable `badge.number`'],
    ['{constructor}', 'There is no variable `constructor`; there is user, data, badge'],
  ])('%s', (template, words) => expect(unknownVariable(parseTemplate(template), known)).toBe(words));
});

describe('JSON Pointers (RFC 6901 section 5)', () => {
  const document = { foo: ['bar', 'baz'], '': 0, 'a/b': 1, 'c%d': 2, 'e^f': 3, 'g|h': 4, 'i\\j': 5, 'k"l': 6, ' ': 7, 'm~n': 8 };
  it.each<[string, unknown]>([
    ['', document],
    ['/foo', ['bar', 'baz']],
    ['/foo/0', 'bar'],
    ['/', 0],
    ['/a~1b', 1],
    ['/c%d', 2],
    ['/e^f', 3],
    ['/g|h', 4],
    ['/i\\j', 5],
    ['/k"l', 6],
    ['/ ', 7],
    ['/m~0n', 8],
    ['/foo/2', undefined],
    ['/foo/bar/x', undefined],
    ['/toString', undefined],
  ])('%j', (pointer, value) => expect(pointAt(document, pointer)).toEqual(value));

  it('lead to every text of a document', () => {
    fc.assert(
      fc.property(fc.jsonValue({ maxDepth: 4 }), (value) => {
        for (const { at, text: found } of textsOf(value as never))
          if (typeof value !== 'string') expect(pointAt(value as never, at)).toBe(found);
      }),
    );
  });

  it('are read token by token', () => expect(pointerNames('/a~1b/m~0n/0')).toEqual(['a/b', 'm~n', '0']));
});
