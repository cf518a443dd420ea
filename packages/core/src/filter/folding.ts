/**
 * CASEI and ACCENTI (OGC 21-065r2 clauses 7.4 and 7.5): character by character, so that the database computes the same.
 * CASEI is the simple lower-case mapping of Unicode 14. ACCENTI removes the marks of Latin, Greek and Cyrillic letters
 * (canonical decomposition) and drops combining marks that stand alone.
 */

/** Characters whose lower case was added after Unicode 14. */
const YOUNGER = /[\u1c89\ua7cb\ua7cc\ua7ce\ua7d2\ua7d4\ua7da\ua7dc\u{10d50}-\u{10d65}\u{16ea0}-\u{16eb8}]/u;
/** Combining diacritical marks. */
const MARKS = /[\u0300-\u036f]/gu;
const LETTER_RANGES: [number, number][] = [
  [0xc0, 0x24f],
  [0x370, 0x3ff],
  [0x400, 0x4ff],
  [0x1e00, 0x1fff],
];

function lowerLetter(letter: string): string {
  // U+0130: the simple mapping is `i`; the full one, which JavaScript uses, adds a dot.
  if (letter === '\u0130') return 'i';
  return YOUNGER.test(letter) ? letter : letter.toLowerCase();
}

export function foldCase(text: string): string {
  if (/^[\x00-\x7f]*$/.test(text)) return text.toLowerCase();
  let folded = '';
  for (const letter of text) folded += lowerLetter(letter);
  return folded;
}

/** Each base character, with all characters that fold to it. */
export const ACCENTED: ReadonlyMap<string, string> = (() => {
  const groups = new Map<string, string>();
  for (const [from, to] of LETTER_RANGES) {
    for (let code = from; code <= to; code++) {
      const letter = String.fromCodePoint(code);
      const plain = letter.normalize('NFD').replace(MARKS, '');
      if ([...plain].length === 1 && plain !== letter) groups.set(plain, (groups.get(plain) ?? '') + letter);
    }
  }
  return groups;
})();
const PLAIN = new Map([...ACCENTED].flatMap(([plain, letters]) => [...letters].map((letter) => [letter, plain] as const)));

export function foldAccents(text: string): string {
  if (/^[\x00-\x7f]*$/.test(text)) return text;
  let folded = '';
  for (const letter of text.replace(MARKS, '')) folded += PLAIN.get(letter) ?? letter;
  return folded;
}

/** Order of two texts by code points, as UTF-8 bytes sort; JavaScript's own order is by UTF-16 units. */
export function compareText(a: string, b: string): number {
  const length = Math.min(a.length, b.length);
  for (let i = 0; i < length; i++) {
    const [left, right] = [a.charCodeAt(i), b.charCodeAt(i)];
    if (left !== right) {
      const [leftPair, rightPair] = [left >= 0xd800 && left < 0xe000, right >= 0xd800 && right < 0xe000];
      return leftPair === rightPair ? left - right : leftPair ? 1 : -1;
    }
  }
  return a.length - b.length;
}

/** A LIKE pattern in its parts: texts to match character by character, `_` for one character, `%` for any number. */
export type PatternPart = { text: string } | '_' | '%';

/** CQL2 clause 7.1: `%` any characters, `_` one, `\` escapes the next character; at the end it stands for itself. */
export function readPattern(pattern: string): PatternPart[] {
  const parts: PatternPart[] = [];
  const add = (letter: string) => {
    const last = parts.at(-1);
    if (typeof last === 'object') last.text += letter;
    else parts.push({ text: letter });
  };
  const letters = [...pattern];
  for (let i = 0; i < letters.length; i++) {
    const letter = letters[i] as string;
    if (letter === '\\') add(letters[++i] ?? '\\');
    else if (letter === '_') parts.push('_');
    else if (letter === '%') {
      if (parts.at(-1) !== '%') parts.push('%');
    } else add(letter);
  }
  return parts;
}

/** Writes the parts as a pattern in which only `%`, `_` and `\` are escaped. */
export const writePattern = (parts: readonly PatternPart[]): string =>
  parts.map((part) => (typeof part === 'string' ? part : part.text.replace(/[\\%_]/g, '\\$&'))).join('');

/** Matches greedily, backtracking to the last `%` only: the time is bounded by text × pattern. */
export function matchPattern(parts: readonly PatternPart[]): (text: string) => boolean {
  const wanted = parts.flatMap((part) => (typeof part === 'string' ? [part === '%' ? null : undefined] : [...part.text]));
  return (text) => {
    const letters = [...text];
    let [t, p, star, mark] = [0, 0, -1, 0];
    while (t < letters.length) {
      if (p < wanted.length && wanted[p] !== null && (wanted[p] === undefined || wanted[p] === letters[t])) {
        t++;
        p++;
      } else if (p < wanted.length && wanted[p] === null) {
        star = p++;
        mark = t;
      } else if (star >= 0) {
        p = star + 1;
        t = ++mark;
      } else return false;
    }
    while (p < wanted.length && wanted[p] === null) p++;
    return p === wanted.length;
  };
}
