/**
 * Templates in JSON: texts hold paths in braces, and a few objects say how lists are mapped and joined. A text that is one path alone takes
 * the value as it is, of whatever type; in other texts a value stands as text.
 *
 *   {"name": "{hut.name}", "label": "{hut.name}, {hut.beds} beds"}
 *   {"each": "{prices.items}", "as": "price", "give": {"bed": "{price.bed}"}}
 *   {"find": "{weather.items}", "where": {"hut": "{hut.id}"}, "give": "{item.sky}"}
 *   {"or": ["{hut.note}", "none"]}
 */
import { isPlainObject, type Json, type JsonObject, own } from './json.js';

const PATH = /\{([A-Za-z_][\w-]*(?:\.[\w-]+)*)\}/g;
const WHOLE = new RegExp(`^${PATH.source}$`);
/** Values that a template gives, lists included. */
const MOST_VALUES = 200_000;
const FORMS = ['each', 'find', 'or'] as const;
type Form = (typeof FORMS)[number];
const MEMBERS: Record<Form, readonly string[]> = { each: ['each', 'as', 'give'], find: ['find', 'as', 'where', 'give'], or: ['or'] };

const formOf = (template: JsonObject): Form | null => FORMS.find((form) => Object.hasOwn(template, form)) ?? null;

/** The value at a path of names and numbers; null where there is none. */
export function valueAtPath(values: JsonObject, path: string): Json {
  let at: Json = values;
  for (const name of path.split('.')) {
    if (Array.isArray(at)) at = at[Number(name)] ?? null;
    else if (isPlainObject(at)) at = own(at, name) ?? null;
    else return null;
  }
  return at;
}

const asText = (value: Json): string => (value === null ? '' : typeof value === 'string' ? value : JSON.stringify(value));

class Filling {
  #left = MOST_VALUES;

  fill(template: Json, values: JsonObject): Json {
    if (--this.#left < 0) throw new RangeError(`The template gives more than ${MOST_VALUES.toLocaleString('en')} values.`);
    if (typeof template === 'string') {
      const [, path] = WHOLE.exec(template) ?? [];
      return path === undefined ? template.replace(PATH, (_, one: string) => asText(valueAtPath(values, one))) : valueAtPath(values, path);
    }
    if (Array.isArray(template)) return template.map((part) => this.fill(part, values));
    if (!isPlainObject(template)) return template;
    const form = formOf(template);
    if (form) return this.#form(form, template, values);
    return Object.fromEntries(Object.entries(template).map(([name, part]) => [name, this.fill(part as Json, values)]));
  }

  #form(form: Form, template: JsonObject, values: JsonObject): Json {
    if (form === 'or') {
      for (const part of template.or as Json[]) {
        const value = this.fill(part, values);
        if (value !== null && value !== '') return value;
      }
      return null;
    }
    const list = this.fill(template[form] as Json, values);
    const name = typeof template.as === 'string' ? template.as : 'item';
    const give = template.give ?? `{${name}}`;
    const items = Array.isArray(list) ? list : [];
    if (form === 'each') return items.map((item) => this.fill(give, { ...values, [name]: item }));
    const where = Object.entries((template.where ?? {}) as JsonObject).map(
      ([path, part]) => [path, this.fill(part as Json, values)] as const,
    );
    const found = items.find((item) => where.every(([path, wanted]) => same(valueAtPath({ item }, `item.${path}`), wanted)));
    return found === undefined ? null : this.fill(give, { ...values, [name]: found });
  }
}

const same = (a: Json, b: Json): boolean => JSON.stringify(a) === JSON.stringify(b);

/** @param values what the first names of its paths stand for @throws {RangeError} when it gives too much */
export const fillTemplate = (template: Json, values: JsonObject): Json => new Filling().fill(template, values);

/** What is wrong with a template; null for a sound one. */
export function templateProblem(template: Json, at = ''): string | null {
  if (Array.isArray(template)) return firstProblem(template.map((part, i) => [`${at}.${i}`, part]));
  if (!isPlainObject(template)) return null;
  const form = formOf(template);
  if (form) {
    const other = Object.keys(template).find((name) => !MEMBERS[form].includes(name));
    if (other) return `${at || 'the template'} has \`${form}\` beside \`${other}\`; it takes ${MEMBERS[form].join(', ')}`;
    if (form === 'or' && !Array.isArray(template.or)) return `${at}.or is no list`;
    if (form !== 'or' && typeof template[form] !== 'string') return `${at}.${form} is no path such as {weather.items}`;
  }
  return firstProblem(Object.entries(template).map(([name, part]) => [`${at}.${name}`, part as Json]));
}

function firstProblem(parts: [string, Json][]): string | null {
  for (const [at, part] of parts) {
    const problem = templateProblem(part, at.replace(/^\./, ''));
    if (problem) return problem;
  }
  return null;
}

/** The first names of all paths, but for those that `each` and `find` bring. */
export function namesIn(template: Json, bound: readonly string[] = []): Set<string> {
  const names = new Set<string>();
  const add = (more: Iterable<string>) => {
    for (const name of more) names.add(name);
  };
  if (typeof template === 'string') {
    for (const [, path] of template.matchAll(PATH)) {
      const [first] = (path as string).split('.') as [string];
      if (!bound.includes(first)) names.add(first);
    }
  } else if (Array.isArray(template)) for (const part of template) add(namesIn(part, bound));
  else if (isPlainObject(template)) {
    const form = formOf(template);
    const inner = form && form !== 'or' ? [...bound, typeof template.as === 'string' ? template.as : 'item'] : bound;
    for (const [name, part] of Object.entries(template))
      if (!(form && name === 'as')) add(namesIn(part as Json, name === 'give' ? inner : bound));
  }
  return names;
}
