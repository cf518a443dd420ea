/**
 * Words to search texts for: `search('bridge clos* -summer')` finds texts that hold `bridge` and a word that begins with
 * `clos`, and not `summer`. Case and accents do not count. The same reading serves the database's full-text index, memory and
 * excerpts.
 */
import { foldAccents, foldCase } from './folding.js';

/** The database's index holds words of these lengths, in characters; others are left out of a search. */
export const SEARCHED_LENGTH = { least: 3, most: 84 } as const;
const MOST_WORDS = 20;
/** What the index takes for one word. */
const WORD = /(?:(?![\u{10000}-\u{10ffff}])[\p{L}\p{M}\p{N}_])+/gu;
/** Letters that the index takes for two, or for a plain one, though Unicode does not decompose them. */
const WRITTEN_OUT: Record<string, string> = { ß: 'ss', æ: 'ae', œ: 'oe', ø: 'o', đ: 'd', ð: 'd', ł: 'l', ħ: 'h', ſ: 's' };

export type SearchWord = { text: string; isPrefix: boolean };
export type SearchWords = { wanted: SearchWord[]; unwanted: SearchWord[] };

const foldWord = (word: string): string =>
  foldAccents(foldCase(word.normalize('NFC'))).replace(/[ßæœøđðłħſ]/g, (letter) => WRITTEN_OUT[letter] as string);

const isSearched = (word: string): boolean => {
  const length = [...word].length;
  return length >= SEARCHED_LENGTH.least && length <= SEARCHED_LENGTH.most;
};

/** Reads what somebody typed. @returns the words, or what is wrong with them */
export function readSearch(typed: string): SearchWords | { problem: string } {
  const words: SearchWords = { wanted: [], unwanted: [] };
  for (const part of typed.normalize('NFC').split(/\s+/)) {
    const found = [...part.matchAll(WORD)];
    found.forEach((match, i) => {
      if (!isSearched(match[0])) return;
      const isPrefix = part[match.index + match[0].length] === '*';
      const list = i === 0 && part[match.index - 1] === '-' ? words.unwanted : words.wanted;
      list.push({ text: match[0], isPrefix });
    });
  }
  if (words.wanted.length + words.unwanted.length > MOST_WORDS) return { problem: `A search has at most ${MOST_WORDS} words` };
  if (words.wanted.length === 0)
    return { problem: `A search needs a word of ${SEARCHED_LENGTH.least} to ${SEARCHED_LENGTH.most} letters or digits to find` };
  return words;
}

/** The words in MariaDB's boolean mode: all of the wanted, none of the unwanted. Words hold no operators. */
export const writeSearch = ({ wanted, unwanted }: SearchWords): string => {
  const write = (sign: string) => (word: SearchWord) => `${sign}${word.text}${word.isPrefix ? '*' : ''}`;
  return [...wanted.map(write('+')), ...unwanted.map(write('-'))].join(' ');
};

const matcherOf = ({ text, isPrefix }: SearchWord): ((folded: string) => boolean) => {
  const wanted = foldWord(text);
  return isPrefix ? (folded) => folded.startsWith(wanted) : (folded) => folded === wanted;
};

/** Texts of these letters are cut into words by the index as they are here. */
const PLAIN_LETTERS = /^[\x20-\x7e\u00a0-\u024f\u0370-\u03ff\u0400-\u04ff]*$/;

/**
 * What a full-text index over a list says of the items it may hold: every list with one of them has the words.
 * @returns null where the index cannot tell, such as for items without a word
 */
export function writeItemSearch(items: readonly (string | number | boolean)[]): string | null {
  const groups = items.map((item) => {
    const text = JSON.stringify(item);
    const words = PLAIN_LETTERS.test(text) ? (text.match(WORD) ?? []).filter(isSearched) : [];
    return words.length > 0 ? `(${words.map((word) => `+${word}`).join(' ')})` : null;
  });
  return groups.length > 0 && groups.every((group) => group !== null) ? groups.join(' ') : null;
}

/** Tests texts for words, as the database's index does. */
export function searcher({ wanted, unwanted }: SearchWords): (texts: readonly string[]) => boolean {
  const [all, none] = [wanted.map(matcherOf), unwanted.map(matcherOf)];
  return (texts) => {
    const words = texts.flatMap((text) => (text.normalize('NFC').match(WORD) ?? []).filter(isSearched).map(foldWord));
    return all.every((matches) => words.some(matches)) && !none.some((matches) => words.some(matches));
  };
}

/** A part of a text with what was found in it: `marks` are stretches of `text`, from and to, in UTF-16 units. */
export type Excerpt = { text: string; marks: [number, number][] };
/** Characters of an excerpt, about. */
const EXCERPT_LENGTH = 160;
const BEFORE_FIRST = 40;

/** The part of a text around the first word that was found; null if there is none. */
export function excerptOf(text: string, { wanted }: SearchWords): Excerpt | null {
  const matchers = wanted.map(matcherOf);
  const hits = [...text.matchAll(WORD)]
    .filter(([word]) => matchers.some((matches) => matches(foldWord(word))))
    .map(({ 0: word, index }): [number, number] => [index, index + word.length]);
  const [first] = hits;
  if (!first) return null;
  const from = wordStart(text, Math.max(0, first[0] - BEFORE_FIRST), first[0]);
  const to = wordEnd(text, Math.min(text.length, Math.max(from + EXCERPT_LENGTH, first[1])), first[1]);
  const [before, after] = [from > 0 ? '… ' : '', to < text.length ? ' …' : ''];
  const shift = before.length - from;
  return {
    text: `${before}${text.slice(from, to)}${after}`,
    marks: hits.filter(([, end]) => end <= to).map(([start, end]) => [start + shift, end + shift]),
  };
}

/** The first beginning of a word from a position on, so that an excerpt does not begin in the middle of one. */
function wordStart(text: string, from: number, most: number): number {
  if (from === 0) return 0;
  const space = /\s/.exec(text.slice(from, most));
  return space ? from + space.index + 1 : most;
}

function wordEnd(text: string, to: number, least: number): number {
  if (to === text.length) return to;
  const before = text.slice(least, to).search(/\s\S*$/);
  return before < 0 ? to : least + before;
}
