/** Evaluates a condition in memory, in three-valued logic: true, false, or null for unknown. */
import { isPlainObject, type Json, type JsonObject, own } from '../json.js';
import type { Place } from '../place.js';
import { readDate } from '../time.js';
import type { Condition, Scalar, Term } from './condition.js';
import { compareText, foldAccents, foldCase, matchPattern } from './folding.js';
import { distanceM, isInside, type Position } from './geometry.js';
import { searcher } from './search.js';
import type { Comparison } from './tree.js';

/** The caller and the time, in milliseconds since 1970. */
export type Asking = {
  /** `fields`: those of the user that the team has defined. */
  me: { id: string | null; roles: readonly string[]; fields?: JsonObject };
  now: number;
};
/** The records that references lead to, by dotted path (`hut`, `hut.warden`); null where one leads to nothing. */
export type Related = ReadonlyMap<string, JsonObject | null>;
export type Truth = boolean | null;
/** `record` has the API's form: times as RFC 3339 texts, places as GeoJSON. */
export type Evaluator = (record: JsonObject, asking: Asking, related?: Related) => Truth;

type Value = string | number | boolean | Position | Json[] | null;
type Reader = (record: JsonObject, asking: Asking, related?: Related) => Value;

/** @throws {RangeError} by the evaluator, where arithmetic leaves the range of numbers */
export function compileEvaluator(condition: Condition): Evaluator {
  switch (condition.is) {
    case 'always':
      return () => condition.value;
    case 'all':
      return junction(condition.parts.map(compileEvaluator), false);
    case 'any':
      return junction(condition.parts.map(compileEvaluator), true);
    case 'not': {
      const part = compileEvaluator(condition.part);
      return (record, asking, related) => negate(part(record, asking, related));
    }
    case 'compare':
      return comparison(condition.operator, reader(condition.left), reader(condition.right));
    case 'null': {
      const of = reader(condition.of);
      return (record, asking, related) => of(record, asking, related) === null;
    }
    case 'like': {
      const [of, matches] = [reader(condition.of), matchPattern(condition.pattern)];
      return known(of, (value) => matches(value as string));
    }
    case 'oneOf':
      return oneOf(reader(condition.of), condition.items.map(reader));
    case 'samePlace': {
      const [left, right] = [reader(condition.left), reader(condition.right)];
      return (record, asking, related) => {
        const [a, b] = [left(record, asking, related) as Position | null, right(record, asking, related) as Position | null];
        return a && b ? a[0] === b[0] && a[1] === b[1] : null;
      };
    }
    case 'insideBox': {
      const { bounds, boundary } = condition;
      return known(reader(condition.of), (place) => isInBox(place as Position, bounds, boundary));
    }
    case 'insidePolygon': {
      const { edges, boundary } = condition;
      return known(reader(condition.of), (place) => isInside(place as Position, edges, boundary));
    }
    case 'holds':
      return known(reader(condition.list), (list) => holds(list as Json[], condition.item));
    case 'within':
      return known(reader(condition.list), (list) => isWithin(list as Json[], condition.items));
    case 'each':
      return each(condition);
    case 'found': {
      const [{ fields }, finds] = [condition, searcher(condition.words)];
      return (record) => finds(fields.map((name) => own(record, name)).filter((value): value is string => typeof value === 'string'));
    }
    case 'sharesRoles': {
      const { how } = condition;
      const list = reader(condition.list);
      return (record, asking, related) => {
        const value = list(record, asking, related) as Json[] | null;
        return value === null ? null : sharesRoles(value, asking.me.roles, how);
      };
    }
  }
}

/** An item counts where the condition is true of it; of a missing list nothing is known. */
function each({ list, how, condition }: Extract<Condition, { is: 'each' }>): Evaluator {
  const [items, fits] = [reader(list), compileEvaluator(condition)];
  return (record, asking, related) => {
    const value = items(record, asking, related) as Json[] | null;
    const isFit = (item: Json) => fits(isPlainObject(item) ? item : {}, asking) === true;
    return value === null ? null : how === 'any' ? value.some(isFit) : value.every(isFit);
  };
}

const negate = (truth: Truth): Truth => (truth === null ? null : !truth);

/** AND stops at the first false, OR at the first true; otherwise an unknown part makes the whole unknown. */
function junction(parts: Evaluator[], ending: boolean): Evaluator {
  return (record, asking, related) => {
    let result: Truth = !ending;
    for (const part of parts) {
      const truth = part(record, asking, related);
      if (truth === ending) return ending;
      if (truth === null) result = null;
    }
    return result;
  };
}

function known(of: Reader, test: (value: NonNullable<Value>) => boolean): Evaluator {
  return (record, asking, related) => {
    const value = of(record, asking, related);
    return value === null ? null : test(value);
  };
}

const order = (a: Value, b: Value): number => (typeof a === 'string' ? compareText(a, b as string) : Number(a) - Number(b));
const TESTS: Record<Comparison, (difference: number) => boolean> = {
  '=': (d) => d === 0,
  '<>': (d) => d !== 0,
  '<': (d) => d < 0,
  '<=': (d) => d <= 0,
  '>': (d) => d > 0,
  '>=': (d) => d >= 0,
};

function comparison(operator: Comparison, left: Reader, right: Reader): Evaluator {
  // Texts are equal where they are the same; only their order needs a look at each character.
  if (operator === '=')
    return (record, asking, related) => {
      const a = left(record, asking, related);
      if (a === null) return null;
      const b = right(record, asking, related);
      return b === null ? null : a === b || (typeof a !== 'string' && order(a, b) === 0);
    };
  const test = TESTS[operator];
  return (record, asking, related) => {
    const a = left(record, asking, related);
    if (a === null) return null;
    const b = right(record, asking, related);
    return b === null ? null : test(order(a, b));
  };
}

function oneOf(of: Reader, items: Reader[]): Evaluator {
  return (record, asking, related) => {
    const value = of(record, asking, related);
    if (value === null) return null;
    let unknown = false;
    for (const item of items) {
      const candidate = item(record, asking, related);
      if (candidate === null) unknown = true;
      else if (order(value, candidate) === 0) return true;
    }
    return unknown ? null : false;
  };
}

/** A box whose west is east of its east crosses the antimeridian (RFC 7946 section 5.2). */
function isInBox([x, y]: Position, [west, south, east, north]: readonly [number, number, number, number], boundary: boolean): boolean {
  const [above, below] = boundary ? [y >= south, y <= north] : [y > south, y < north];
  const [right, left] = boundary ? [x >= west, x <= east] : [x > west, x < east];
  return above && below && (west <= east ? right && left : right || left);
}

const holds = (list: readonly Json[], item: Scalar): boolean => list.some((one) => (Array.isArray(one) ? holds(one, item) : one === item));
const isWithin = (list: readonly Json[], items: readonly Scalar[]): boolean =>
  list.every((one) => (Array.isArray(one) ? isWithin(one, items) : items.includes(one as Scalar)));

function sharesRoles(list: Json[], roles: readonly string[], how: 'any' | 'all' | 'within'): boolean {
  if (how === 'any') return roles.some((role) => holds(list, role));
  return how === 'all' ? roles.every((role) => holds(list, role)) : isWithin(list, roles);
}

/** Reads a term's value from a record. */
export function reader(term: Term): Reader {
  switch (term.is) {
    case 'constant': {
      const { value } = term;
      return () => value;
    }
    case 'field':
      return fieldReader(term);
    case 'inside':
      return insideReader(term);
    case 'called':
      throw new Error(`the function ${term.name} is known to SQL alone`);
    case 'relevance':
      throw new Error('how well a search is answered is known to SQL alone');
    case 'me':
      return (_record, { me }) => me.id;
    case 'myRoles':
      return (_record, { me }) => me.roles as string[];
    case 'myField': {
      const convert = CONVERSIONS[term.kind];
      return (_record, { me }) => {
        const value = own(me.fields ?? {}, term.name);
        return value === undefined || value === null ? null : convert ? convert(value) : (value as Value);
      };
    }
    case 'now':
      return (_record, { now }) => now;
    case 'arithmetic':
      return arithmetic(term.operator, reader(term.left), reader(term.right));
    case 'folded': {
      const [of, fold] = [reader(term.of), term.letters === 'case' ? foldCase : foldAccents];
      return (record, asking, related) => {
        const text = of(record, asking, related) as string | null;
        return text === null ? null : fold(text);
      };
    }
    case 'midnight': {
      const of = reader(term.of);
      return (record, asking, related) => {
        const date = of(record, asking, related) as string | null;
        return date === null ? null : readDate(date);
      };
    }
    case 'distance': {
      const [from, to] = [reader(term.from), reader(term.to)];
      return (record, asking, related) => {
        const [a, b] = [from(record, asking, related) as Position | null, to(record, asking, related) as Position | null];
        return a && b ? distanceM(a, b) : null;
      };
    }
  }
}

function fieldReader({ path, kind }: Extract<Term, { is: 'field' }>): Reader {
  const name = path.at(-1) as string;
  const convert = CONVERSIONS[kind];
  const present = (value: Json | undefined): Value =>
    value === null || value === undefined ? null : convert ? convert(value) : (value as Value);
  if (path.length === 1) return (record) => present(own(record, name));
  const key = path.slice(0, -1).join('.');
  return (_record, _asking, related) => present(own(related?.get(key) ?? {}, name));
}

/** A value of another type than is compared counts as missing. */
function insideReader({ path, keys, kind }: Extract<Term, { is: 'inside' }>): Reader {
  const whole: Reader = path.length === 0 ? (record) => record as never : fieldReader({ is: 'field', kind: 'object', path });
  return (record, asking, related) => {
    let value = whole(record, asking, related) as Json;
    for (const key of keys) value = isPlainObject(value) ? (own(value, key) ?? null) : null;
    return value !== null && FITS_INSIDE[kind]?.(value) !== false ? (value as Value) : null;
  };
}

const FITS_INSIDE: Partial<Record<Term['kind'], (value: Json) => boolean>> = {
  text: (value) => typeof value === 'string',
  number: (value) => typeof value === 'number',
  boolean: (value) => typeof value === 'boolean',
  list: (value) => Array.isArray(value),
};

const CONVERSIONS: Partial<Record<Term['kind'], (value: Json) => Value>> = {
  time: (value) => Date.parse(value as string),
  place: (value) => (value as Place).coordinates,
};

const OPERATIONS: Record<string, (a: number, b: number) => number | null> = {
  '+': (a, b) => a + b,
  '-': (a, b) => a - b,
  '*': (a, b) => a * b,
  '/': (a, b) => (b === 0 ? null : a / b),
  '%': (a, b) => (b === 0 ? null : a % b),
  div: (a, b) => (b === 0 ? null : Math.trunc(a / b)),
};

function arithmetic(operator: string, left: Reader, right: Reader): Reader {
  const compute = OPERATIONS[operator] as (a: number, b: number) => number | null;
  return (record, asking, related) => {
    const [a, b] = [left(record, asking, related) as number | null, right(record, asking, related) as number | null];
    const result = a === null || b === null ? null : compute(a, b);
    if (result !== null && !Number.isFinite(result)) throw new RangeError('The arithmetic of the filter overflows.');
    return result;
  };
}
