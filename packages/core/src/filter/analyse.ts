/** Checks names and types of a filter, and reduces it to the condition that both back ends work from. */
import { readDate, readTime } from '../time.js';
import { type Condition, type FilterScope, OBJECT_STEP, type Scalar, type ScopeFunction, type Term, type ValueKind } from './condition.js';
import { foldAccents, foldCase, readPattern } from './folding.js';
import { edgesOf, isOnGlobe, type Position } from './geometry.js';
import { nearest } from './nearest.js';
import { readSearch, type SearchWords } from './search.js';
import { ARITHMETIC, COMPARISONS, type Arithmetic, type Call, type Comparison, FilterError, isCall, LIMITS, type Node } from './tree.js';

const HOLDS: Record<ValueKind, string> = {
  text: 'a text',
  number: 'a number',
  boolean: 'TRUE or FALSE',
  date: "a date such as DATE('2026-07-14')",
  time: "a time such as TIMESTAMP('2026-07-14T06:00:00Z')",
  place: 'a place',
  list: 'a list',
  object: 'an object',
};
const SCALARS: ReadonlySet<ValueKind> = new Set(['text', 'number', 'boolean', 'date', 'time']);
const isComparison: ReadonlySet<string> = new Set(COMPARISONS);
const PREDICATES = ['any', 'all', 'and', 'or', 'not', 'like', 'between', 'in', 'isNull', ...COMPARISONS];
const isPredicate = (node: Call) => PREDICATES.includes(node.op) || /^[sta]_/.test(node.op);

/** `inItem`: names are members of an object in a list. */
type Ground = { scope: FilterScope; folds: number; joins: Set<string>; inItem?: boolean };

/** @throws {FilterError} with the position, what was expected, and the nearest name to a misspelt field */
export function analyseFilter(tree: Node, scope: FilterScope): Condition {
  return conditionOf(tree, { scope, folds: 0, joins: new Set() });
}

function conditionOf(node: Node, ground: Ground): Condition {
  if (node.kind === 'literal' && typeof node.value === 'boolean') return { is: 'always', value: node.value };
  if (node.kind === 'property') {
    const kind = propertyOf(node, ground).kind;
    throw new FilterError(
      node.at,
      kind === 'boolean'
        ? `Write \`${node.name} = TRUE\``
        : `\`${node.name}\` holds ${HOLDS[kind]}; a condition compares it with something`,
    );
  }
  if (node.kind !== 'call') throw new FilterError(node.at, 'Expected a condition, such as a comparison, found a value');
  const { op, args } = node;
  switch (op) {
    case 'and':
    case 'or':
      if (args.length < 2) throw new FilterError(node.at, `\`${op}\` joins two conditions or more`);
      return { is: op === 'and' ? 'all' : 'any', parts: args.map((arg) => conditionOf(arg, ground)) };
    case 'not':
      return { is: 'not', part: conditionOf(only(node), ground) };
    case 'like':
      return likeOf(node, ground);
    case 'between':
      return betweenOf(node, ground);
    case 'in':
      return inOf(node, ground);
    case 'any':
    case 'all':
      return eachOf(node, op, ground);
    case 'search':
      if (!ground.scope.search) break;
      return { is: 'found', fields: ground.scope.search, words: searchedWords(node, ground) };
    case 'isNull':
      return { is: 'null', of: termOf(only(node), ground) };
  }
  return predicateOf(node, ground);
}

function predicateOf(node: Call, ground: Ground): Condition {
  const { op } = node;
  if (isComparison.has(op)) return comparisonOf(node, op as Comparison, ground);
  if (SPATIAL.has(op)) return spatialOf(node, ground);
  if (Object.hasOwn(TEMPORAL, op)) return temporalOf(node, ground);
  if (ARRAYS.has(op)) return arrayOf(node, ground);
  if (/^[sta]_/.test(op))
    throw new FilterError(
      node.at,
      `\`${op.toUpperCase()}\` is not a predicate here${nearest(op, [...SPATIAL, ...Object.keys(TEMPORAL), ...ARRAYS])}`,
    );
  termOf(node, ground);
  throw new FilterError(node.at, `\`${op}\` gives a value, not a condition; compare it with something`);
}

/** `any(stops, kind = 'hut' AND nights > 1)`: inside, names are the members of each object in the list. */
function eachOf(node: Call, how: 'any' | 'all', ground: Ground): Condition {
  const [list, condition] = two(node);
  return {
    is: 'each',
    how,
    list: wanted(termOf(list, ground), 'list', list),
    condition: conditionOf(condition, { ...ground, inItem: true }),
  };
}

function searchedWords(node: Call, { scope }: Ground): SearchWords {
  if (scope.search?.length === 0)
    throw new FilterError(
      node.at,
      '`search` needs a search index: make one over the texts to look into, among the indexes of the collection',
    );
  const typed = only(node);
  if (typed.kind !== 'literal' || typeof typed.value !== 'string')
    throw new FilterError(typed.at, "`search` takes a text, such as search('bridge clos*')");
  const words = readSearch(typed.value);
  if ('problem' in words) throw new FilterError(typed.at, words.problem);
  return words;
}

function only(node: Call): Node {
  const [first] = node.args;
  if (!first || node.args.length !== 1) throw new FilterError(node.at, `\`${node.op}\` takes one argument`);
  return first;
}

function two(node: Call): [Node, Node] {
  const [first, second] = node.args;
  if (!first || !second || node.args.length !== 2) throw new FilterError(node.at, `\`${node.op.toUpperCase()}\` takes two arguments`);
  return [first, second];
}

type Property = Extract<Node, { kind: 'property' }>;

function propertyOf(node: Property, { scope, joins, inItem }: Ground): Extract<Term, { is: 'field' | 'inside' }> {
  const whole = node.name.includes('.') ? node.name.split('.') : [node.name];
  if (inItem) return { is: 'inside', kind: 'object', path: [], keys: checkedSteps(whole, node) };
  const { path, keys } = splitAtObject(whole, node, scope);
  const kind = scope.kindOf(path);
  if (!kind) throw new FilterError(node.at, `There is no field \`${node.name}\`${nearest(node.name, scope.names())}`);
  for (let length = 1; length < path.length; length++) joins.add(path.slice(0, length).join('.'));
  if (path.length > 1 && joins.size > LIMITS.references)
    throw new FilterError(node.at, `A filter follows at most ${LIMITS.references} references`);
  return keys.length > 0 ? { is: 'inside', kind: 'object', path, keys } : { is: 'field', kind, path };
}

/** A path that goes on inside an object: up to the field that holds the object, and from there on. */
function splitAtObject(whole: readonly string[], node: Property, scope: FilterScope): { path: readonly string[]; keys: readonly string[] } {
  for (let length = 1; length < whole.length; length++) {
    if (scope.kindOf(whole.slice(0, length)) !== 'object') continue;
    return { path: whole.slice(0, length), keys: checkedSteps(whole.slice(length), node) };
  }
  return { path: whole, keys: [] };
}

function checkedSteps(keys: readonly string[], node: Property): readonly string[] {
  if (keys.length > LIMITS.objectSteps) throw new FilterError(node.at, `A path goes at most ${LIMITS.objectSteps} steps into an object`);
  const odd = keys.find((key) => !OBJECT_STEP.test(key));
  if (odd !== undefined) throw new FilterError(node.at, `A step inside an object has letters, digits, - and _; found \`${odd}\``);
  return keys;
}

/** What can be read inside an object: a JSON value has no other types. */
const INSIDE: ReadonlySet<ValueKind> = new Set(['text', 'number', 'boolean', 'list']);
/** A term inside an object as the type that it is compared with; other terms as they are. */
function insideAs(term: Term, kind: ValueKind, node: Node): Term {
  if (term.is !== 'inside' || term.kind !== 'object') return term;
  if (!INSIDE.has(kind))
    throw new FilterError(
      node.at,
      kind === 'object'
        ? 'What lies inside an object is compared with a text, a number, TRUE or FALSE, which says how it is read'
        : `What lies inside an object is a text, a number, TRUE, FALSE or a list; compare dates and times as texts, such as '2026-07-14'`,
    );
  return { ...term, kind };
}

function termOf(node: Node, ground: Ground): Term {
  switch (node.kind) {
    case 'literal':
      if (typeof node.value === 'string' && !node.value.isWellFormed())
        throw new FilterError(node.at, 'The text is not well-formed Unicode');
      if (typeof node.value === 'number' && !Number.isFinite(node.value)) throw new FilterError(node.at, 'The number is too large');
      return {
        is: 'constant',
        kind: typeof node.value === 'string' ? 'text' : (typeof node.value as 'number' | 'boolean'),
        value: node.value,
      };
    case 'property':
      return propertyOf(node, ground);
    case 'instant':
      return instantOf(node);
    case 'point':
      return { is: 'constant', kind: 'place', value: onGlobe(node.position, node) };
    case 'call':
      return calledTerm(node, ground);
    case 'array':
      throw new FilterError(node.at, 'A list is allowed only after IN and in A_CONTAINS, A_CONTAINEDBY, A_EQUALS and A_OVERLAPS');
    default:
      throw new FilterError(node.at, 'An area is allowed only in S_INTERSECTS, S_WITHIN and S_DISJOINT');
  }
}

function onGlobe(position: Position, node: Node): Position {
  if (!isOnGlobe(position))
    throw new FilterError(node.at, `${position.join(' ')} is off the globe; longitude is -180 to 180 and comes first, latitude -90 to 90`);
  return position;
}

function instantOf(node: Extract<Node, { kind: 'instant' }>): Term {
  if (node.unit === 'date') {
    if (readDate(node.text) === null) throw new FilterError(node.at, `'${node.text}' is not a date; expected one such as '2026-07-14'`);
    return { is: 'constant', kind: 'date', value: node.text };
  }
  const ms = readTime(node.text);
  if (ms === null) throw new FilterError(node.at, `'${node.text}' is not a time; expected one such as '2026-07-14T06:00:00Z'`);
  return { is: 'constant', kind: 'time', value: ms };
}

function calledTerm(node: Call, ground: Ground): Term {
  const { op, args, at } = node;
  if ((ARITHMETIC as readonly string[]).includes(op)) return arithmeticOf(node, op as Arithmetic, ground);
  switch (op) {
    case 'casei':
    case 'accenti':
      return foldedOf(node, ground);
    case 'distance': {
      const [from, to] = two(node).map((arg) => wanted(termOf(arg, ground), 'place', arg)) as [Term, Term];
      return { is: 'distance', kind: 'number', from, to };
    }
    case 'now':
      if (args.length > 0) throw new FilterError(at, '`now()` takes no arguments');
      return { is: 'now', kind: 'time' };
    case 'me': {
      const what = args.length === 1 && args[0]?.kind === 'literal' ? args[0].value : null;
      if (what === 'id') return { is: 'me', kind: 'text' };
      if (what === 'roles') return { is: 'myRoles', kind: 'list' };
      const kind = typeof what === 'string' ? ground.scope.me?.get(what) : undefined;
      if (kind) return { is: 'myField', kind, name: what as string };
      const known = ['id', 'roles', ...(ground.scope.me?.keys() ?? [])];
      throw new FilterError(at, `Expected ${known.map((name) => `me('${name}')`).join(' or ')}`);
    }
    case 'search':
      if (ground.scope.search) throw new FilterError(at, '`search` is a condition of its own: write it without a comparison');
      break;
  }
  if (ground.scope.functions?.has(op)) return scopeCall(node, ground.scope.functions.get(op) as ScopeFunction);
  if (isPredicate(node)) throw new FilterError(at, 'Expected a value, found a condition');
  if (op === 'interval') throw new FilterError(at, 'INTERVAL is allowed only in temporal predicates, such as T_DURING');
  throw new FilterError(at, `There is no function \`${op}\`${nearest(op, [...(ground.scope.functions?.keys() ?? []), ...FUNCTIONS])}`);
}

const FUNCTIONS = ['distance', 'me', 'now', 'casei', 'accenti', 'date', 'timestamp', 'interval'];

function scopeCall({ op, args, at }: Call, { kind, check }: ScopeFunction): Term {
  const values = args.map((arg) => {
    if (arg.kind !== 'literal') throw new FilterError(arg.at, `\`${op}\` takes texts and numbers only`);
    return arg.value;
  });
  const problem = check(values);
  if (problem !== null) throw new FilterError(at, problem);
  return { is: 'called', kind, name: op, args: values };
}

function wanted(given: Term, kind: ValueKind, node: Node): Term {
  const term = insideAs(given, kind, node);
  if (term.kind !== kind) throw new FilterError(node.at, `Expected ${HOLDS[kind]}, found ${HOLDS[term.kind]}`);
  return term;
}

function arithmeticOf(node: Call, operator: Arithmetic, ground: Ground): Term {
  const [first, second] = two(node);
  const left = wanted(termOf(first, ground), 'number', first);
  if (operator !== '^')
    return { is: 'arithmetic', kind: 'number', operator, left, right: wanted(termOf(second, ground), 'number', second) };
  // Repeated multiplication, since powers with fractional exponents differ between machines in the last digit.
  const exponent = second.kind === 'literal' ? second.value : null;
  if (typeof exponent !== 'number' || !Number.isInteger(exponent) || exponent < 1 || exponent > 4)
    throw new FilterError(second.at, 'An exponent is 1, 2, 3 or 4');
  let power = left;
  for (let i = 1; i < exponent; i++) power = { is: 'arithmetic', kind: 'number', operator: '*', left: power, right: left };
  return power;
}

function foldedOf(node: Call, ground: Ground): Term {
  const inner = only(node);
  const of = wanted(termOf(inner, ground), 'text', inner);
  const letters = node.op === 'casei' ? 'case' : 'accents';
  if (of.is === 'constant') return { ...of, value: letters === 'case' ? foldCase(of.value as string) : foldAccents(of.value as string) };
  if (++ground.folds > LIMITS.folds) throw new FilterError(node.at, `A filter uses CASEI and ACCENTI on at most ${LIMITS.folds} fields`);
  return { is: 'folded', kind: 'text', letters, of };
}

/** Makes two terms comparable: texts are read as the dates and times they are compared with, a date counts from its midnight. */
function fit(first: Term, second: Term, node: Node): [Term, Term] {
  const [left, right] = [insideAs(first, second.kind, node), insideAs(second, first.kind, node)];
  const [a, b] = [readAs(left, right.kind, node), readAs(right, left.kind, node)];
  if (a.kind === 'date' && b.kind === 'time') return [midnight(a), b];
  if (a.kind === 'time' && b.kind === 'date') return [a, midnight(b)];
  const told = (term: Term) => (term.is === 'field' ? `\`${term.path.join('.')}\`, which holds ${HOLDS[term.kind]},` : HOLDS[term.kind]);
  if (!SCALARS.has(a.kind)) throw new FilterError(node.at, `${told(a)} cannot be compared; use ${USES[a.kind] ?? 'IS NULL'}`);
  if (a.kind !== b.kind) throw new FilterError(node.at, `Cannot compare ${told(a)} with ${told(b).replace(/,$/, '')}`);
  return [a, b];
}

const USES: Partial<Record<ValueKind, string>> = {
  place: 'distance(…), S_INTERSECTS, S_WITHIN or S_DISJOINT',
  list: 'A_CONTAINS, A_CONTAINEDBY, A_EQUALS or A_OVERLAPS',
};

function readAs(term: Term, kind: ValueKind, node: Node): Term {
  if (term.is !== 'constant' || term.kind !== 'text') return term;
  if (kind !== 'date' && kind !== 'time') return term;
  const text = term.value as string;
  if (readDate(text) !== null) return { is: 'constant', kind: 'date', value: text };
  const ms = readTime(text);
  if (ms !== null) return { is: 'constant', kind: 'time', value: ms };
  throw new FilterError(node.at, `'${text}' is not ${HOLDS[kind]}`);
}

function midnight(of: Term): Term {
  return of.is === 'constant'
    ? { is: 'constant', kind: 'time', value: readDate(of.value as string) as number }
    : { is: 'midnight', kind: 'time', of };
}

function comparisonOf(node: Call, operator: Comparison, ground: Ground): Condition {
  const [first, second] = two(node);
  const [left, right] = fit(termOf(first, ground), termOf(second, ground), first);
  return { is: 'compare', operator, left, right };
}

function likeOf(node: Call, ground: Ground): Condition {
  const [first, second] = two(node);
  const of = wanted(termOf(first, ground), 'text', first);
  const pattern = termOf(second, ground);
  if (pattern.is !== 'constant' || pattern.kind !== 'text') throw new FilterError(second.at, 'Expected a pattern in single quotes');
  const parts = readPattern(pattern.value as string);
  if (parts.filter((part) => part === '%').length > LIMITS.wildcards)
    throw new FilterError(second.at, `A pattern has at most ${LIMITS.wildcards} %`);
  return { is: 'like', of, pattern: parts };
}

function betweenOf(node: Call, ground: Ground): Condition {
  if (node.args.length !== 3) throw new FilterError(node.at, '`between` takes a value, a low and a high end');
  const [value, low, high] = node.args.map((arg) => termOf(arg, ground)) as [Term, Term, Term];
  const [aboveLeft, aboveRight] = fit(value, low, node.args[0] as Node);
  const [belowLeft, belowRight] = fit(value, high, node.args[0] as Node);
  return {
    is: 'all',
    parts: [
      { is: 'compare', operator: '>=', left: aboveLeft, right: aboveRight },
      { is: 'compare', operator: '<=', left: belowLeft, right: belowRight },
    ],
  };
}

function inOf(node: Call, ground: Ground): Condition {
  const [first, second] = two(node);
  if (second.kind !== 'array' || second.items.length === 0)
    throw new FilterError(second.at, 'Expected a list with one value or more after IN');
  const of = termOf(first, ground);
  const pairs = second.items.map((item) => fit(of, termOf(item, ground), item));
  const [value] = pairs[0] as [Term, Term];
  if (pairs.every(([left]) => left.is === value.is)) return { is: 'oneOf', of: value, items: pairs.map(([, item]) => item) };
  return { is: 'any', parts: pairs.map(([left, right]) => ({ is: 'compare', operator: '=', left, right })) };
}

const SPATIAL = new Set(['s_intersects', 's_within', 's_disjoint']);

function spatialOf(node: Call, ground: Ground): Condition {
  let [first, second] = two(node);
  const isArea = (one: Node) => one.kind === 'box' || one.kind === 'polygon';
  // A place intersects an area when the area intersects the place; only "within" has a direction.
  if (isArea(first) && !isArea(second) && node.op !== 's_within') [first, second] = [second, first];
  if (isArea(first)) throw new FilterError(first.at, `${node.op.toUpperCase()} takes a place first, and then an area or a place`);
  const of = wanted(termOf(first, ground), 'place', first);
  const inside = insideOf(of, second, node.op !== 's_within', ground);
  return node.op === 's_disjoint' ? { is: 'not', part: inside } : inside;
}

function insideOf(of: Term, area: Node, boundary: boolean, ground: Ground): Condition {
  if (area.kind === 'box') {
    const [west, south, east, north] = area.bounds;
    onGlobe([west, south], area);
    onGlobe([east, north], area);
    if (south > north) throw new FilterError(area.at, 'BBOX takes west, south, east, north; its south is north of its north');
    return { is: 'insideBox', of, bounds: area.bounds, boundary };
  }
  if (area.kind !== 'polygon') return { is: 'samePlace', left: of, right: wanted(termOf(area, ground), 'place', area) };
  if (area.rings.length === 0 || area.rings.reduce((sum, ring) => sum + ring.length, 0) > LIMITS.vertices)
    throw new FilterError(area.at, `A polygon has at most ${LIMITS.vertices} corners`);
  for (const ring of area.rings) {
    for (const position of ring) onGlobe(position, area);
    const [start, end] = [ring[0], ring.at(-1)];
    // RFC 7946 section 3.1.6: a linear ring has four positions or more, the last like the first.
    if (ring.length < 4 || start?.[0] !== end?.[0] || start?.[1] !== end?.[1])
      throw new FilterError(area.at, 'Each ring of a polygon has four positions or more, the last one like the first');
  }
  return { is: 'insidePolygon', of, rings: area.rings, edges: edgesOf(area.rings), boundary };
}

/** Start and end of an interval; null is open. */
type Stretch = { start: Term | null; end: Term | null };
const before = (left: Term | null, right: Term | null, operator: '<' | '<='): Condition =>
  left && right ? comparable(left, operator, right) : { is: 'always', value: true };
const comparable = (left: Term, operator: Comparison, right: Term): Condition => {
  const [a, b] = left.kind === right.kind ? [left, right] : left.kind === 'date' ? [midnight(left), right] : [left, midnight(right)];
  return { is: 'compare', operator, left: a, right: b };
};
const all = (...parts: Condition[]): Condition => ({ is: 'all', parts });
const never: Condition = { is: 'always', value: false };
/** `<` between ends: an open start is before everything, an open end after everything; open ends of one kind are equal. */
const startsBefore = (a: Stretch, b: Stretch): Condition =>
  b.start ? (a.start ? comparable(a.start, '<', b.start) : { is: 'always', value: true }) : never;
const endsBefore = (a: Stretch, b: Stretch): Condition =>
  a.end ? (b.end ? comparable(a.end, '<', b.end) : { is: 'always', value: true }) : never;
const sameEnd = (a: Term | null, b: Term | null): Condition => (a && b ? comparable(a, '=', b) : { is: 'always', value: a === b });
const isOver = (a: Stretch, b: Stretch): Condition => (a.end && b.start ? comparable(a.end, '<', b.start) : never);
const meets = (a: Stretch, b: Stretch): Condition => (a.end && b.start ? comparable(a.end, '=', b.start) : never);
const reach = (a: Stretch, b: Stretch): Condition => before(b.start, a.end, '<');

/** OGC 21-065r2 clause 7.8, table 11: the relations of two intervals, by their ends. */
const TEMPORAL: Record<string, (a: Stretch, b: Stretch) => Condition> = {
  t_before: isOver,
  t_after: (a, b) => isOver(b, a),
  t_disjoint: (a, b) => ({ is: 'any', parts: [isOver(a, b), isOver(b, a)] }),
  t_intersects: (a, b) => all(before(a.start, b.end, '<='), before(b.start, a.end, '<=')),
  t_equals: (a, b) => all(sameEnd(a.start, b.start), sameEnd(a.end, b.end)),
  t_during: (a, b) => all(startsBefore(b, a), endsBefore(a, b)),
  t_contains: (a, b) => all(startsBefore(a, b), endsBefore(b, a)),
  t_finishes: (a, b) => all(sameEnd(a.end, b.end), startsBefore(b, a)),
  t_finishedby: (a, b) => all(sameEnd(a.end, b.end), startsBefore(a, b)),
  t_starts: (a, b) => all(sameEnd(a.start, b.start), endsBefore(a, b)),
  t_startedby: (a, b) => all(sameEnd(a.start, b.start), endsBefore(b, a)),
  t_meets: meets,
  t_metby: (a, b) => meets(b, a),
  t_overlaps: (a, b) => all(startsBefore(a, b), reach(a, b), endsBefore(a, b)),
  t_overlappedby: (a, b) => all(startsBefore(b, a), reach(b, a), endsBefore(b, a)),
};

function temporalOf(node: Call, ground: Ground): Condition {
  const [first, second] = two(node);
  return (TEMPORAL[node.op] as (a: Stretch, b: Stretch) => Condition)(stretchOf(first, ground), stretchOf(second, ground));
}

function stretchOf(node: Node, ground: Ground): Stretch {
  if (!isCall(node, 'interval')) {
    const term = instantTerm(node, ground);
    return { start: term, end: term };
  }
  const [start, end] = two(node).map((one) => (one.kind === 'instant' && one.unit === 'open' ? null : instantTerm(one, ground))) as [
    Term | null,
    Term | null,
  ];
  return { start, end };
}

function instantTerm(node: Node, ground: Ground): Term {
  const term = readAs(termOf(node, ground), 'time', node);
  if (term.kind !== 'date' && term.kind !== 'time')
    throw new FilterError(node.at, `Expected a date, a time or INTERVAL(…), found ${HOLDS[term.kind]}`);
  return term;
}

const ARRAYS = new Set(['a_contains', 'a_containedby', 'a_equals', 'a_overlaps']);

/** Lists are compared as sets (OGC 21-065r2 clause 7.10). One of the two is written out, or is me('roles'). */
function arrayOf(node: Call, ground: Ground): Condition {
  const [first, second] = two(node);
  const [left, right] = [listOf(first, ground), listOf(second, ground)];
  const contains = (a: ListSide, b: ListSide) => holdsAll(a, b, node);
  switch (node.op) {
    case 'a_contains':
      return contains(left, right);
    case 'a_containedby':
      return contains(right, left);
    case 'a_equals':
      return all(contains(left, right), contains(right, left));
    default: {
      if ('items' in left && 'items' in right) return { is: 'always', value: left.items.some((item) => right.items.includes(item)) };
      const [list, other] =
        'term' in left && !(left.term.is === 'myRoles' && 'term' in right) ? [left, right] : [right as { term: Term }, left];
      if ('items' in other)
        return { is: 'any', parts: [never, ...other.items.map((item): Condition => ({ is: 'holds', list: list.term, item }))] };
      return rolesWith(list.term, other.term, 'any', node);
    }
  }
}

type ListSide = { term: Term } | { items: Scalar[] };

function listOf(node: Node, ground: Ground): ListSide {
  if (node.kind !== 'array') {
    // One value in parentheses reads as a group.
    if (node.kind === 'literal') return { items: [node.value] };
    return { term: wanted(termOf(node, ground), 'list', node) };
  }
  return {
    items: node.items.map((item) => {
      if (item.kind !== 'literal') throw new FilterError(item.at, 'Expected a text, a number, TRUE or FALSE in the list');
      return item.value;
    }),
  };
}

function holdsAll(outer: ListSide, inner: ListSide, node: Node): Condition {
  if ('items' in outer && 'items' in inner) return { is: 'always', value: inner.items.every((item) => outer.items.includes(item)) };
  if ('items' in inner) {
    const list = (outer as { term: Term }).term;
    if (inner.items.length > 0) return all(...inner.items.map((item): Condition => ({ is: 'holds', list, item })));
    // Every list contains the empty one; of no list it is unknown.
    const empty: Condition = { is: 'within', list, items: [] };
    return { is: 'any', parts: [empty, { is: 'not', part: empty }] };
  }
  if ('items' in outer) return { is: 'within', list: inner.term, items: outer.items };
  if (inner.term.is === 'myRoles') return rolesWith(outer.term, inner.term, 'all', node);
  return rolesWith(inner.term, outer.term, 'within', node);
}

function rolesWith(list: Term, roles: Term, how: 'any' | 'all' | 'within', node: Node): Condition {
  if (roles.is !== 'myRoles')
    throw new FilterError(node.at, "Of two lists one is written out, such as ('warden', 'rescuer'), or is me('roles')");
  return { is: 'sharesRoles', list, how };
}

/** A value on its own, such as what a list is sorted by. @throws {FilterError} */
export function analyseTerm(tree: Node, scope: FilterScope): Term {
  const ground: Ground = { scope, folds: 0, joins: new Set() };
  if (isCall(tree, 'search') && scope.search) return { is: 'relevance', kind: 'number', words: searchedWords(tree, ground) };
  return termOf(tree, ground);
}
