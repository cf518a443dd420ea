/**
 * Templates: texts with `{name}` for a value, `{name|default}` for a value that may be missing, and `{{`, `}}` for literal
 * braces. A name is a path with dots, such as `user.name` or `data.hut`.
 */
import type { Json, JsonObject } from '../json.js';
import { isPlainObject } from '../json.js';
import { nearest } from '../filter/nearest.js';

export type TemplatePart = string | { path: string[]; otherwise: string | null };
export type Template = TemplatePart[];

/** A template that cannot be read. `at` counts characters from 1. */
export class TemplateError extends Error {
  constructor(
    message: string,
    readonly at: number,
  ) {
    super(`${message} (at character ${at})`);
  }
}

const PATH = /^[A-Za-z_][A-Za-z0-9_-]*(\.[A-Za-z0-9_-]+)*$/;
const cache = new Map<string, Template>();
const MOST_CACHED = 2000;

/** Reads a template. @throws {TemplateError} */
export function parseTemplate(text: string): Template {
  const known = cache.get(text);
  if (known) return known;
  const parts: Template = [];
  let plain = '';
  for (let i = 0; i < text.length; i++) {
    const letter = text[i] as string;
    if ((letter === '{' || letter === '}') && text[i + 1] === letter) {
      plain += letter;
      i++;
    } else if (letter === '}') throw new TemplateError('A `}` closes nothing; write `}}` for a literal brace', i + 1);
    else if (letter === '{') {
      const end = text.indexOf('}', i);
      if (end < 0) throw new TemplateError('A `{` is not closed; write `{{` for a literal brace', i + 1);
      const [name = '', ...otherwise] = text.slice(i + 1, end).split('|');
      if (!PATH.test(name.trim())) throw new TemplateError(`\`${name}\` is not a variable, such as user.name`, i + 2);
      if (plain) parts.push(plain);
      plain = '';
      parts.push({ path: name.trim().split('.'), otherwise: otherwise.length ? otherwise.join('|') : null });
      i = end;
    } else plain += letter;
  }
  if (plain) parts.push(plain);
  if (cache.size >= MOST_CACHED) cache.clear();
  cache.set(text, parts);
  return parts;
}

const escaped = (text: string): string => text.replace(/[{}]/g, '$&$&');

/**
 * Fills the variables of one group, and leaves the others in the text for later.
 * @throws {MissingValue}
 */
export function fillGroup(text: string, group: string, values: JsonObject): string {
  return parseTemplate(text)
    .map((part) => {
      if (typeof part === 'string') return escaped(part);
      if (part.path[0] === group) return escaped(fillTemplate([part], { [group]: values }));
      return `{${part.path.join('.')}${part.otherwise === null ? '' : `|${part.otherwise}`}}`;
    })
    .join('');
}

/** Whether a template is a text without variables. */
export const isPlainText = (template: Template): boolean => template.every((part) => typeof part === 'string');

/** The names a template may use: `true` for one value, an object for nested names, `open` for any nested name. */
export type Known = true | 'open' | { [name: string]: Known };

/** The first variable of a template that is not known, in words; null when all are. @throws {TemplateError} */
export function unknownVariable(template: Template, known: { [name: string]: Known }): string | null {
  for (const part of template) {
    if (typeof part === 'string') continue;
    const words = missingName(part.path, known, []);
    if (words) return words;
  }
  return null;
}

function missingName(path: string[], known: Known, before: string[]): string | null {
  const [first, ...rest] = path;
  if (first === undefined)
    return known === true || known === 'open' ? null : `\`${before.join('.')}\` is a group; name what is in it: ${names(known, before)}`;
  if (known === 'open') return null;
  const below = known === true ? undefined : Object.hasOwn(known, first) ? known[first] : undefined;
  if (below === undefined) {
    const full = [...before, ...path].join('.');
    const candidates = known === true ? [] : Object.keys(known).map((name) => [...before, name].join('.'));
    return `There is no variable \`${full}\`${nearest(full, candidates) || (candidates.length ? `; there is ${candidates.join(', ')}` : '')}`;
  }
  return missingName(rest, below, [...before, first]);
}
const names = (known: Known, before: string[]) =>
  typeof known === 'object'
    ? Object.keys(known)
        .map((name) => [...before, name].join('.'))
        .join(', ')
    : '';

/** A finding as a sentence; a question needs no full stop. */
export const sentence = (words: string): string => (words.endsWith('?') ? words : `${words}.`);

/** A value by its path; undefined when there is none, and for null. */
export const valueAt = (values: JsonObject, path: readonly string[]): Json | undefined => followNames(values, path) ?? undefined;

/** A variable without a value and without a default. */
export class MissingValue extends Error {
  constructor(readonly path: string) {
    super(`\`${path}\` has no value here. Write {${path}|something} to give a default.`);
  }
}

const asText = (value: Json): string =>
  typeof value === 'string' ? value : typeof value === 'object' ? JSON.stringify(value) : String(value);

/**
 * Fills a template with text.
 * @param write how a value is escaped
 * @throws {MissingValue}
 */
export function fillTemplate(
  template: Template,
  values: JsonObject,
  write: (text: string, path: readonly string[]) => string = (text) => text,
): string {
  let text = '';
  for (const part of template) {
    if (typeof part === 'string') text += part;
    else {
      const value = valueAt(values, part.path);
      if (value !== undefined) text += write(asText(value), part.path);
      else if (part.otherwise !== null) text += part.otherwise;
      else throw new MissingValue(part.path.join('.'));
    }
  }
  return text;
}

/**
 * A document that is parsed once and filled many times.
 * @throws {MissingValue} when a text with other characters lacks a value
 */
export type DocumentFiller = (values: JsonObject) => Json | undefined;

/**
 * Reads a JSON document whose strings are templates. A string that is a single variable keeps the type of its value; a
 * member or element without a value is left out.
 */
export function compileDocument(document: Json): DocumentFiller {
  if (typeof document === 'string') return compileString(parseTemplate(document));
  if (Array.isArray(document)) {
    const elements = document.map(compileDocument);
    return (values) => elements.map((fill) => fill(values)).filter((element) => element !== undefined);
  }
  if (!isPlainObject(document)) return () => document;
  const members = Object.entries(document).map(([name, value]) => ({ name, fill: compileDocument(value as Json) }));
  return (values) => {
    const filled: JsonObject = {};
    for (const { name, fill } of members) {
      const result = fill(values);
      if (result !== undefined) filled[name] = result;
    }
    return filled;
  };
}

function compileString(template: Template): DocumentFiller {
  const [only] = template;
  if (template.length === 1 && only !== undefined && typeof only !== 'string')
    return (values) => valueAt(values, only.path) ?? only.otherwise ?? undefined;
  return (values) => fillTemplate(template, values);
}

/** Each template text in a JSON document, with where it stands (a JSON Pointer, RFC 6901). */
export function* textsOf(document: Json, at = ''): Generator<{ at: string; text: string }> {
  if (typeof document === 'string') yield { at: at || '/', text: document };
  else if (Array.isArray(document)) for (const [i, element] of document.entries()) yield* textsOf(element, `${at}/${i}`);
  else if (isPlainObject(document))
    for (const [name, value] of Object.entries(document))
      yield* textsOf(value as Json, `${at}/${name.replaceAll('~', '~0').replaceAll('/', '~1')}`);
}

/** The names a JSON Pointer leads along (RFC 6901 section 4). */
export const pointerNames = (pointer: string): string[] =>
  pointer === ''
    ? []
    : pointer
        .slice(1)
        .split('/')
        .map((token) => token.replaceAll('~1', '/').replaceAll('~0', '~'));

/** The value that names lead to; undefined when nowhere. */
export function followNames(document: Json | undefined, names: readonly string[]): Json | undefined {
  let at = document;
  for (const name of names) {
    if (Array.isArray(at)) at = at[Number(name)];
    else if (isPlainObject(at) && Object.hasOwn(at, name)) at = at[name] as Json;
    else return undefined;
  }
  return at;
}

/** The value a JSON Pointer leads to; undefined when nowhere. */
export const pointAt = (document: Json | undefined, pointer: string): Json | undefined => followNames(document, pointerNames(pointer));
