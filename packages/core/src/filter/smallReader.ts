/**
 * Reads CQL2 text (OGC 21-065r2 annex B) by hand: for apps, where a parser of the general kind would weigh more than the whole
 * library. It reads what `text.ts` reads, to the same tree; a test holds both to agree.
 */
import { named, negative, unquote } from './textForms.js';
import { call, checkSize, FilterError, LIMITS, type Node } from './tree.js';

type Position = [number, number];
type Kind = 'name' | 'quoted' | 'text' | 'number' | 'compare' | 'sign' | 'word' | 'end';
type Token = { kind: Kind; image: string; at: number };

const PATTERN =
  /\s+|('(?:\\'|''|[^'])*')|((?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?)|([A-Za-z_:\u00c0-\uffff][\w:.\u00b7-\uffff]*)|("[A-Za-z_:\u00c0-\uffff][\w:.\u00b7-\uffff]*")|(<>|<=|>=|=|<|>)|([(),+\-*/%^])/y;
const KINDS: readonly Kind[] = ['text', 'number', 'name', 'quoted', 'compare', 'sign'];
const KEYWORDS = new Set(['AND', 'OR', 'NOT', 'LIKE', 'BETWEEN', 'IN', 'IS', 'NULL', 'TRUE', 'FALSE', 'DIV']);
const SHAPES = new Set(['POINT', 'POLYGON', 'LINESTRING', 'MULTIPOINT', 'MULTILINESTRING', 'MULTIPOLYGON', 'GEOMETRYCOLLECTION']);

function tokensOf(text: string): Token[] {
  const tokens: Token[] = [];
  let depth = 0;
  PATTERN.lastIndex = 0;
  for (let at = 0; at < text.length; at = PATTERN.lastIndex) {
    PATTERN.lastIndex = at;
    const match = PATTERN.exec(text);
    if (!match)
      throw new FilterError(
        at,
        text[at] === "'" ? 'A text in single quotes does not end' : `${JSON.stringify(text[at])} is not expected here`,
      );
    const group = match.slice(1).findIndex((part) => part !== undefined);
    if (group < 0) continue;
    const image = match[0];
    if (image === '(' && ++depth > LIMITS.depth) throw new FilterError(at, `A filter nests at most ${LIMITS.depth} deep`);
    if (image === ')') depth--;
    tokens.push({ kind: KINDS[group] as Kind, image, at });
  }
  // Names of shapes only where a parenthesis follows.
  for (const [i, token] of tokens.entries()) {
    const word = token.image.toUpperCase();
    if (token.kind === 'name' && (KEYWORDS.has(word) || (SHAPES.has(word) && tokens[i + 1]?.image === '('))) {
      token.kind = 'word';
      token.image = word;
    }
  }
  return tokens;
}

/** @throws {FilterError} with the position, and what was expected */
export function readFilterText(text: string): Node {
  if (text.length > LIMITS.length)
    throw new FilterError(LIMITS.length, `A filter has at most ${LIMITS.length.toLocaleString('en')} characters`);
  const tree = new Reader(tokensOf(text), text.length).whole();
  checkSize(tree);
  return tree;
}

class Reader {
  #i = 0;
  constructor(
    private readonly tokens: readonly Token[],
    private readonly length: number,
  ) {}

  whole(): Node {
    const tree = this.#disjunction();
    if (this.#next.kind !== 'end') throw this.#wrong('AND, OR, an operator or the end');
    return tree;
  }

  get #next(): Token {
    return this.tokens[this.#i] ?? { kind: 'end', image: '', at: this.length };
  }

  #wrong(expected: string): FilterError {
    const { kind, image, at } = this.#next;
    return new FilterError(at, `Expected ${expected}, found ${kind === 'end' ? 'the end' : `\`${image.slice(0, 40)}\``}`);
  }

  /** Takes the next token if it is this sign or keyword. */
  #take(image: string, kind: Kind = 'sign'): Token | null {
    const token = this.#next;
    if (token.kind !== kind || token.image !== image) return null;
    this.#i++;
    return token;
  }

  #demand(image: string, kind: Kind = 'sign'): Token {
    const token = this.#take(image, kind);
    if (!token) throw this.#wrong(`\`${image}\``);
    return token;
  }

  #joined(op: 'or' | 'and', part: () => Node): Node {
    const parts = [part()];
    while (this.#take(op.toUpperCase(), 'word')) parts.push(part());
    const [first] = parts as [Node];
    return parts.length > 1 ? call(op, parts, first.at) : first;
  }

  #disjunction(): Node {
    return this.#joined('or', () => this.#joined('and', () => this.#negation()));
  }

  #negation(): Node {
    const not = this.#take('NOT', 'word');
    const inner = this.#predicate();
    return not ? call('not', [inner], not.at) : inner;
  }

  #predicate(): Node {
    const left = this.#sum();
    const { at } = left;
    const token = this.#next;
    if (token.kind === 'compare') {
      this.#i++;
      return call(token.image, [left, this.#sum()], at);
    }
    if (this.#take('IS', 'word')) {
      const not = this.#take('NOT', 'word');
      this.#demand('NULL', 'word');
      const test = call('isNull', [left], at);
      return not ? call('not', [test], at) : test;
    }
    const not = this.#take('NOT', 'word');
    const test = this.#rangeTest(left);
    if (!test) {
      if (not) throw this.#wrong('LIKE, BETWEEN or IN');
      return left;
    }
    return not ? call('not', [test], at) : test;
  }

  #rangeTest(left: Node): Node | null {
    const { at } = left;
    if (this.#take('LIKE', 'word')) return call('like', [left, this.#value()], at);
    if (this.#take('BETWEEN', 'word')) {
      const low = this.#sum();
      this.#demand('AND', 'word');
      return call('between', [left, low, this.#sum()], at);
    }
    const word = this.#take('IN', 'word');
    return word && call('in', [left, { kind: 'array', items: this.#list(), at: word.at }], at);
  }

  #sum(): Node {
    let left = this.#product();
    for (;;) {
      const operator = this.#take('+') ?? this.#take('-');
      if (!operator) return left;
      left = call(operator.image, [left, this.#product()], left.at);
    }
  }

  #product(): Node {
    let left = this.#power();
    for (;;) {
      const operator = this.#take('*') ?? this.#take('/') ?? this.#take('%') ?? this.#take('DIV', 'word');
      if (!operator) return left;
      left = call(operator.image.toLowerCase(), [left, this.#power()], left.at);
    }
  }

  #power(): Node {
    const base = this.#signed();
    return this.#take('^') ? call('^', [base, this.#signed()], base.at) : base;
  }

  #signed(): Node {
    const minus = this.#take('-');
    const value = this.#value();
    return minus ? negative(value, minus.at) : value;
  }

  #value(): Node {
    const { kind, image, at } = this.#next;
    if (image === '(' && kind === 'sign') {
      const items = this.#list();
      return items.length === 1 ? (items[0] as Node) : { kind: 'array', items, at };
    }
    if (kind === 'word') return this.#word();
    if (kind === 'end' || kind === 'sign' || kind === 'compare') throw this.#wrong('a value, a field name or `(`');
    this.#i++;
    switch (kind) {
      case 'number':
        return { kind: 'literal', value: Number(image), at };
      case 'text':
        return { kind: 'literal', value: unquote(image), at };
      case 'quoted':
        return { kind: 'property', name: image.slice(1, -1), at };
      default:
        return this.#next.image === '(' && this.#next.kind === 'sign'
          ? named(image, this.#list(), at)
          : { kind: 'property', name: image, at };
    }
  }

  #word(): Node {
    const { image, at } = this.#next;
    if (image === 'TRUE' || image === 'FALSE') {
      this.#i++;
      return { kind: 'literal', value: image === 'TRUE', at };
    }
    if (image !== 'POINT' && image !== 'POLYGON')
      throw this.#wrong(SHAPES.has(image) ? 'POINT, POLYGON or BBOX' : 'a value, a field name or `(`');
    this.#i++;
    if (image === 'POLYGON') return { kind: 'polygon', rings: this.#several(() => this.#several(() => this.#position())), at };
    this.#demand('(');
    const position = this.#position();
    this.#demand(')');
    return { kind: 'point', position, at };
  }

  #list(): Node[] {
    this.#demand('(');
    const items: Node[] = [];
    if (this.#take(')')) return items;
    do items.push(this.#disjunction());
    while (this.#take(','));
    this.#demand(')');
    return items;
  }

  /** One or more, in parentheses. */
  #several<T>(read: () => T): T[] {
    this.#demand('(');
    const items: T[] = [];
    do items.push(read());
    while (this.#take(','));
    this.#demand(')');
    return items;
  }

  #position(): Position {
    return [this.#coordinate(), this.#coordinate()];
  }

  #coordinate(): number {
    const minus = this.#take('-');
    const { kind, image } = this.#next;
    if (kind !== 'number') throw this.#wrong('a number');
    this.#i++;
    return minus ? -Number(image) : Number(image);
  }
}
