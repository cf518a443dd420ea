/**
 * Patterns of fields: regular expressions as JavaScript writes them (ECMA-262, Unicode), matched in linear time (RE2's
 * automata). What needs backtracking is refused by name.
 */
import { RE2JS, RE2JSException } from 're2js';

/** Whether the whole text matches. */
export type Matcher = (text: string) => boolean;

/** A pattern that cannot be used, and why. */
export class PatternError extends Error {}

/** Longest pattern that is read. */
const MAX_LENGTH = 1_000;
/** What RE2 does not support, distinguished from what is misspelt. */
const UNAVAILABLE: [name: string, sign: RegExp][] = [
  ['look-ahead `(?=…)` or `(?!…)`', /(?:^|[^\\])(?:\\\\)*\(\?[=!]/],
  ['look-behind `(?<=…)` or `(?<!…)`', /(?:^|[^\\])(?:\\\\)*\(\?<[=!]/],
  ['back-references such as `\\1`', /(?:^|[^\\])(?:\\\\)*\\(?:[1-9]|k<)/],
];

const cache = new Map<string, Matcher | PatternError>();
const MOST_CACHED = 1_000;

/** @throws {PatternError} naming what is wrong, or what linear-time matching does not support */
export function matcherOf(pattern: string): Matcher {
  let known = cache.get(pattern);
  if (!known) {
    if (cache.size >= MOST_CACHED) cache.clear();
    known = compile(pattern);
    cache.set(pattern, known);
  }
  if (known instanceof PatternError) throw known;
  return known;
}

function compile(pattern: string): Matcher | PatternError {
  if (pattern.length > MAX_LENGTH)
    return new PatternError(`The pattern has ${pattern.length} characters; it may have at most ${MAX_LENGTH}.`);
  try {
    // A pattern that JavaScript refuses is misspelt, even if RE2 accepts it.
    new RegExp(`^(?:${pattern})$`, 'u');
  } catch (error) {
    return new PatternError((error as Error).message);
  }
  const lacking = UNAVAILABLE.find(([, sign]) => sign.test(pattern));
  if (lacking) return new PatternError(`Patterns are matched in linear time, which excludes ${lacking[0]}.`);
  try {
    const compiled = RE2JS.compile(RE2JS.translateRegExp(pattern));
    return (text) => compiled.matches(text);
  } catch (error) {
    if (error instanceof RE2JSException)
      return new PatternError(`Patterns are matched in linear time, which excludes this: ${error.message}.`);
    throw error;
  }
}
