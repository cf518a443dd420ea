/**
 * A part of CQL2 text (OGC 21-065r2, basic CQL2 with LIKE and IN): comparisons of a field with a literal, IS NULL,
 * LIKE, IN, AND, OR, NOT and parentheses.
 */

export type Literal = string | number | boolean;
export type Comparison = '=' | '<>' | '<' | '<=' | '>' | '>=';
export type Filter =
  | { kind: 'comparison'; field: string; operator: Comparison; value: Literal }
  | { kind: 'isNull'; field: string; negated: boolean }
  | { kind: 'like'; field: string; pattern: string; negated: boolean }
  | { kind: 'in'; field: string; values: Literal[]; negated: boolean }
  | { kind: 'and' | 'or'; parts: Filter[] }
  | { kind: 'not'; part: Filter };

/** A filter that cannot be read. `position` counts letters from 0. */
export class FilterError extends Error {
  constructor(
    readonly position: number,
    problem: string,
  ) {
    super(`${problem} (at letter ${position + 1} of the filter)`);
    this.name = 'FilterError';
  }
}

const MAX_LENGTH = 4000;
const MAX_DEPTH = 20;
type Token = { text: string; kind: 'word' | 'number' | 'text' | 'sign' | 'end'; at: number };

const TOKEN =
  /\s*(?:('(?:[^']|'')*')|([A-Za-z_][A-Za-z0-9_.]*)|"([A-Za-z_][A-Za-z0-9_.]*)"|([+-]?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?)|(<>|<=|>=|[=<>(),]))/y;

function tokenise(text: string): Token[] {
  const tokens: Token[] = [];
  TOKEN.lastIndex = 0;
  while (text.slice(TOKEN.lastIndex).trim()) {
    const from = TOKEN.lastIndex;
    const match = TOKEN.exec(text);
    if (!match) {
      const at = from + (text.slice(from).length - text.slice(from).trimStart().length);
      throw new FilterError(at, text[at] === "'" ? 'A text in quotes does not end' : `${JSON.stringify(text[at])} is not expected here`);
    }
    const [whole, quoted, word, quotedWord, number, sign] = match;
    const at = from + (whole.length - whole.trimStart().length);
    if (quoted !== undefined) tokens.push({ kind: 'text', text: quoted.slice(1, -1).replaceAll("''", "'"), at });
    else if (number !== undefined) tokens.push({ kind: 'number', text: number, at });
    else if (sign !== undefined) tokens.push({ kind: 'sign', text: sign, at });
    else tokens.push({ kind: 'word', text: (word ?? quotedWord) as string, at });
  }
  tokens.push({ kind: 'end', text: 'the end', at: text.length });
  return tokens;
}

/**
 * Reads a filter.
 * @param fields the names it may use
 * @throws {FilterError} with the position, what was expected, and the nearest name to a misspelt field
 */
export function parseFilter(text: string, fields: Iterable<string>): Filter {
  if (text.length > MAX_LENGTH) throw new FilterError(MAX_LENGTH, `A filter has at most ${MAX_LENGTH} letters`);
  const tokens = tokenise(text);
  const known = new Set(fields);
  let next = 0;
  const peek = () => tokens[next] as Token;
  const isWord = (word: string) => peek().kind === 'word' && peek().text.toUpperCase() === word;
  const takeWord = (word: string) => isWord(word) && Boolean(++next);
  const takeSign = (sign: string) => peek().kind === 'sign' && peek().text === sign && Boolean(++next);
  const fail = (expected: string): never => {
    throw new FilterError(peek().at, `Expected ${expected}, found ${peek().kind === 'end' ? 'the end' : `\`${peek().text}\``}`);
  };

  function disjunction(depth: number): Filter {
    if (depth > MAX_DEPTH) throw new FilterError(peek().at, `A filter nests at most ${MAX_DEPTH} deep`);
    const parts = [conjunction(depth)];
    while (takeWord('OR')) parts.push(conjunction(depth));
    return parts.length === 1 ? (parts[0] as Filter) : { kind: 'or', parts };
  }
  function conjunction(depth: number): Filter {
    const parts = [factor(depth)];
    while (takeWord('AND')) parts.push(factor(depth));
    return parts.length === 1 ? (parts[0] as Filter) : { kind: 'and', parts };
  }
  function factor(depth: number): Filter {
    if (takeWord('NOT')) return { kind: 'not', part: factorBelow(depth) };
    return factorBelow(depth);
  }
  function factorBelow(depth: number): Filter {
    if (!takeSign('(')) return predicate();
    const inner = disjunction(depth + 1);
    if (!takeSign(')')) fail('`)`');
    return inner;
  }
  function predicate(): Filter {
    const token = peek();
    if (token.kind !== 'word') fail('a field name');
    if (!known.has(token.text)) throw new FilterError(token.at, `There is no field \`${token.text}\`${nearest(token.text, known)}`);
    next++;
    const field = token.text;
    if (takeWord('IS')) {
      const negated = takeWord('NOT');
      if (!takeWord('NULL')) fail('NULL');
      return { kind: 'isNull', field, negated };
    }
    const negated = takeWord('NOT');
    if (takeWord('LIKE')) {
      if (peek().kind !== 'text') fail('a pattern in single quotes');
      return { kind: 'like', field, pattern: (tokens[next++] as Token).text, negated };
    }
    if (takeWord('IN')) return { kind: 'in', field, values: literals(), negated };
    if (negated) fail('LIKE or IN');
    const operator = peek();
    if (operator.kind !== 'sign' || operator.text === '(' || operator.text === ')' || operator.text === ',')
      fail('one of = <> < <= > >= IS LIKE IN');
    next++;
    return { kind: 'comparison', field, operator: operator.text as Comparison, value: literal() };
  }
  function literals(): Literal[] {
    if (!takeSign('(')) fail('`(`');
    const values = [literal()];
    while (takeSign(',')) values.push(literal());
    if (!takeSign(')')) fail('`,` or `)`');
    return values;
  }
  function literal(): Literal {
    const token = peek();
    if (token.kind === 'text') return next++, token.text;
    if (token.kind === 'number') return next++, Number(token.text);
    if (takeWord('TRUE')) return true;
    if (takeWord('FALSE')) return false;
    return fail('a number, a text in single quotes, TRUE or FALSE');
  }

  const filter = disjunction(0);
  if (peek().kind !== 'end') fail('AND, OR or the end');
  return filter;
}

/** «; did you mean …» for the known name that is fewest edits away, if it is near enough. */
export function nearest(name: string, known: Iterable<string>): string {
  let best = { name: '', distance: 4 };
  for (const candidate of known) {
    const distance = editDistance(name.toLowerCase(), candidate.toLowerCase());
    if (distance < best.distance) best = { name: candidate, distance };
  }
  return best.name ? `; did you mean \`${best.name}\`?` : '';
}

/** Levenshtein distance, one row at a time. */
function editDistance(a: string, b: string): number {
  let row = Array.from({ length: b.length + 1 }, (_, i) => i);
  for (let i = 1; i <= a.length; i++) {
    const above = row;
    row = [i];
    for (let j = 1; j <= b.length; j++) {
      row.push(Math.min((above[j] as number) + 1, (row[j - 1] as number) + 1, (above[j - 1] as number) + (a[i - 1] === b[j - 1] ? 0 : 1)));
    }
  }
  return row[b.length] as number;
}
