/** Types of columns that hold nothing but text. */
import type { FieldType } from './fieldTypes.js';
import { readDate, readTime } from './time.js';

/** The type that texts of a CSV column all fit; text where they fit nothing narrower. */
export function guessType(texts: readonly string[]): FieldType {
  const filled = texts.filter((text) => text !== '');
  const all = (test: (text: string) => boolean) => filled.length > 0 && filled.every(test);
  if (all((text) => /^-?(0|[1-9]\d*)$/.test(text) && Number.isSafeInteger(Number(text)))) return 'integer';
  if (all((text) => /^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/.test(text))) return 'number';
  if (all((text) => /^(true|false)$/i.test(text))) return 'boolean';
  if (all((text) => readDate(text) !== null)) return 'date';
  if (all((text) => readTime(text) !== null)) return 'time';
  return all((text) => /^\{"type":"Point"/.test(text)) ? 'place' : 'text';
}
