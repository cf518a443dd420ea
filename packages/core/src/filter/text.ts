/** Reads CQL2 text (OGC 21-065r2 annex B). Only the grammar is ours; lexing and parsing are Chevrotain's. */
import {
  createToken,
  EmbeddedActionsParser,
  type ILexingError,
  type IRecognitionException,
  type IToken,
  Lexer,
  type TokenType,
} from 'chevrotain';
import type { Position } from './geometry.js';
import { named, negative, unquote } from './textForms.js';
import { call, checkSize, FilterError, LIMITS, type Node } from './tree.js';

const Name = createToken({ name: 'Name', label: 'a field name', pattern: /[A-Za-z_:\u00c0-\uffff][\w:.\u00b7-\uffff]*/ });
const QuotedName = createToken({ name: 'QuotedName', label: 'a field name', pattern: /"[A-Za-z_:\u00c0-\uffff][\w:.\u00b7-\uffff]*"/ });
/** Keywords and shapes are distinguished from names after the lexer: one map lookup instead of a pattern for each word. */
const keyword = (word: string): TokenType => createToken({ name: word, label: word, pattern: Lexer.NA });
const sign = (name: string, text: string): TokenType => createToken({ name, label: `\`${text}\``, pattern: text });
const And = keyword('AND');
const Or = keyword('OR');
const Not = keyword('NOT');
const Like = keyword('LIKE');
const Between = keyword('BETWEEN');
const In = keyword('IN');
const Is = keyword('IS');
const Null = keyword('NULL');
const True = keyword('TRUE');
const False = keyword('FALSE');
const Div = keyword('DIV');
const Point = keyword('POINT');
const Polygon = keyword('POLYGON');
const OtherShape = createToken({ name: 'OtherShape', pattern: Lexer.NA });
const KEYWORDS = new Map([And, Or, Not, Like, Between, In, Is, Null, True, False, Div].map((type) => [type.name, type]));
/** Names of shapes only where a parenthesis follows. */
const SHAPES = new Map([Point, Polygon].map((type) => [type.name, type]));
for (const name of ['LINESTRING', 'MULTIPOINT', 'MULTILINESTRING', 'MULTIPOLYGON', 'GEOMETRYCOLLECTION']) SHAPES.set(name, OtherShape);

const Text = createToken({ name: 'Text', label: 'a text in single quotes', pattern: /'(?:\\'|''|[^'])*'/, line_breaks: true });
const NumberToken = createToken({ name: 'Number', label: 'a number', pattern: /(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?/ });
const Compare = createToken({ name: 'Compare', label: 'one of = <> < <= > >=', pattern: /<>|<=|>=|=|<|>/ });
const [Open, Close, Comma] = [sign('Open', '('), sign('Close', ')'), sign('Comma', ',')];
const [Plus, Minus] = [sign('Plus', '+'), sign('Minus', '-')];
const Times = createToken({ name: 'Times', label: 'one of * / %', pattern: /[*/%]/ });
const Power = sign('Power', '^');
const Space = createToken({ name: 'Space', pattern: /\s+/, group: Lexer.SKIPPED, line_breaks: true });
const TOKENS = [
  Space,
  Text,
  NumberToken,
  And,
  Or,
  Not,
  Like,
  Between,
  In,
  Is,
  Null,
  True,
  False,
  Div,
  Point,
  Polygon,
  OtherShape,
  Name,
  QuotedName,
  Compare,
  Open,
  Close,
  Comma,
  Plus,
  Minus,
  Times,
  Power,
];
const lexer = new Lexer(TOKENS, { ensureOptimizations: false, positionTracking: 'onlyOffset', skipValidations: true });

const found = (token: IToken) =>
  token.tokenType.name === 'EOF' ? 'the end' : `\`${token.image.length > 40 ? `${token.image.slice(0, 40)}…` : token.image}\``;
const labelOf = (type: TokenType) => type.LABEL ?? type.name;

const SINGLE: ReadonlySet<TokenType> = new Set([Name, NumberToken, Text, True, False]);
const GOES_ON: ReadonlySet<TokenType> = new Set([Open, Plus, Minus, Times, Div, Power]);
const isAlone = (first: IToken, second: IToken): boolean => SINGLE.has(first.tokenType) && !GOES_ON.has(second.tokenType);

class FilterParser extends EmbeddedActionsParser {
  constructor() {
    super(TOKENS, {
      maxLookahead: 2,
      recoveryEnabled: false,
      skipValidations: true,
      errorMessageProvider: {
        buildMismatchTokenMessage: ({ expected, actual }) => `Expected ${labelOf(expected)}, found ${found(actual)}`,
        buildNotAllInputParsedMessage: ({ firstRedundant }) => `Expected AND, OR, an operator or the end, found ${found(firstRedundant)}`,
        buildNoViableAltMessage: ({ actual }) => `Expected a value, a field name or \`(\`, found ${found(actual[0] as IToken)}`,
        buildEarlyExitMessage: ({ actual }) => `Expected more, found ${found(actual[0] as IToken)}`,
      },
    });
    this.performSelfAnalysis();
  }

  filter = this.RULE('filter', (): Node => this.SUBRULE(this.disjunction));

  disjunction = this.RULE('disjunction', (): Node => {
    const first = this.SUBRULE(this.conjunction);
    let parts: Node[] | null = null;
    this.MANY(() => {
      this.CONSUME(Or);
      parts ??= [first];
      parts.push(this.SUBRULE2(this.conjunction));
    });
    return parts ? call('or', parts, first?.at ?? 0) : first;
  });

  conjunction = this.RULE('conjunction', (): Node => {
    const first = this.SUBRULE(this.negation);
    let parts: Node[] | null = null;
    this.MANY(() => {
      this.CONSUME(And);
      parts ??= [first];
      parts.push(this.SUBRULE2(this.negation));
    });
    return parts ? call('and', parts, first?.at ?? 0) : first;
  });

  negation = this.RULE('negation', (): Node => {
    const not = this.OPTION(() => this.CONSUME(Not));
    const inner = this.SUBRULE(this.predicate);
    return not ? call('not', [inner], not.startOffset) : inner;
  });

  predicate = this.RULE('predicate', (): Node => {
    const left = this.SUBRULE(this.operand);
    const at = left?.at ?? 0;
    return (
      this.OPTION(() =>
        this.OR([
          {
            ALT: () => {
              const operator = this.CONSUME(Compare);
              return call(operator.image, [left, this.SUBRULE2(this.operand)], at);
            },
          },
          {
            ALT: () => {
              this.CONSUME(Is);
              const not = this.OPTION2(() => this.CONSUME(Not));
              this.CONSUME(Null);
              const test = call('isNull', [left], at);
              return not ? call('not', [test], at) : test;
            },
          },
          {
            ALT: () => {
              const not = this.OPTION3(() => this.CONSUME2(Not));
              const test = this.SUBRULE(this.rangeTest, { ARGS: [left] });
              return not ? call('not', [test], at) : test;
            },
          },
        ]),
      ) ?? left
    );
  });

  rangeTest = this.RULE('rangeTest', (left: Node): Node => {
    const at = left?.at ?? 0;
    return this.OR([
      {
        ALT: () => {
          this.CONSUME(Like);
          return call('like', [left, this.SUBRULE(this.value)], at);
        },
      },
      {
        ALT: () => {
          this.CONSUME(Between);
          const low = this.SUBRULE(this.sum);
          this.CONSUME(And);
          return call('between', [left, low, this.SUBRULE2(this.sum)], at);
        },
      },
      {
        ALT: () => {
          const word = this.CONSUME(In);
          return call('in', [left, { kind: 'array', items: this.SUBRULE(this.list), at: word.startOffset }], at);
        },
      },
    ]);
  });

  /** A value, or arithmetic; most operands are single values, and go past the levels of arithmetic. */
  #operands: { DEF: { GATE?: () => boolean; ALT: () => Node }[]; IGNORE_AMBIGUITIES: boolean } | undefined;
  operand = this.RULE('operand', (): Node => {
    this.#operands ??= {
      DEF: [{ GATE: () => isAlone(this.LA(1), this.LA(2)), ALT: () => this.SUBRULE(this.value) }, { ALT: () => this.SUBRULE(this.sum) }],
      IGNORE_AMBIGUITIES: true,
    };
    return this.OR(this.#operands);
  });

  sum = this.RULE('sum', (): Node => {
    let left = this.SUBRULE(this.product);
    this.MANY(() => {
      const operator = this.OR([{ ALT: () => this.CONSUME(Plus) }, { ALT: () => this.CONSUME(Minus) }]);
      left = call(operator.image, [left, this.SUBRULE2(this.product)], left?.at ?? 0);
    });
    return left;
  });

  product = this.RULE('product', (): Node => {
    let left = this.SUBRULE(this.power);
    this.MANY(() => {
      const operator = this.OR([{ ALT: () => this.CONSUME(Times) }, { ALT: () => this.CONSUME(Div) }]);
      const right = this.SUBRULE2(this.power);
      left = this.ACTION(() => call(operator.image.toLowerCase(), [left, right], left.at));
    });
    return left;
  });

  power = this.RULE('power', (): Node => {
    const base = this.SUBRULE(this.signed);
    return (
      this.OPTION(() => {
        this.CONSUME(Power);
        return call('^', [base, this.SUBRULE2(this.signed)], base?.at ?? 0);
      }) ?? base
    );
  });

  signed = this.RULE('signed', (): Node => {
    const minus = this.OPTION(() => this.CONSUME(Minus));
    const value = this.SUBRULE(this.value);
    return minus ? this.ACTION(() => negative(value, minus.startOffset)) : value;
  });

  // Created once: nine closures for each value would cost more than parsing it.
  #values: { ALT: () => Node }[] | undefined;
  value = this.RULE('value', (): Node => {
    this.#values ??= [
      {
        ALT: () => {
          const token = this.CONSUME(NumberToken);
          return { kind: 'literal', value: Number(token.image), at: token.startOffset };
        },
      },
      {
        ALT: () => {
          const token = this.CONSUME(Text);
          return this.ACTION((): Node => ({ kind: 'literal', value: unquote(token.image), at: token.startOffset }));
        },
      },
      { ALT: () => ({ kind: 'literal', value: true, at: this.CONSUME(True).startOffset }) },
      { ALT: () => ({ kind: 'literal', value: false, at: this.CONSUME(False).startOffset }) },
      { ALT: () => this.SUBRULE(this.point) },
      { ALT: () => this.SUBRULE(this.polygon) },
      {
        ALT: () => {
          const token = this.CONSUME(OtherShape);
          return this.ACTION((): Node => {
            throw new FilterError(token.startOffset, `Expected POINT, POLYGON or BBOX, found \`${token.image}\``);
          });
        },
      },
      {
        ALT: () => {
          const name = this.CONSUME(Name);
          const args = this.OPTION(() => this.SUBRULE(this.list));
          return this.ACTION(
            (): Node => (args ? named(name.image, args, name.startOffset) : { kind: 'property', name: name.image, at: name.startOffset }),
          );
        },
      },
      {
        ALT: () => {
          const token = this.CONSUME(QuotedName);
          return { kind: 'property', name: token.image.slice(1, -1), at: token.startOffset };
        },
      },
      { ALT: () => this.SUBRULE(this.group) },
    ];
    return this.OR(this.#values);
  });

  /** `(a > 1 OR b)` is a group, `('a', 'b')` an array, `()` an empty one. */
  group = this.RULE('group', (): Node => {
    const items: Node[] = [];
    const open = this.CONSUME(Open);
    this.MANY_SEP({ SEP: Comma, DEF: () => items.push(this.SUBRULE(this.disjunction)) });
    this.CONSUME(Close);
    return items.length === 1 ? (items[0] as Node) : { kind: 'array', items, at: open.startOffset };
  });

  list = this.RULE('list', (): Node[] => {
    const items: Node[] = [];
    this.CONSUME(Open);
    this.MANY_SEP({ SEP: Comma, DEF: () => items.push(this.SUBRULE(this.disjunction)) });
    this.CONSUME(Close);
    return items;
  });

  coordinate = this.RULE('coordinate', (): number => {
    const minus = this.OPTION(() => this.CONSUME(Minus));
    const value = Number(this.CONSUME(NumberToken).image);
    return minus ? -value : value;
  });

  position = this.RULE('position', (): Position => [this.SUBRULE(this.coordinate), this.SUBRULE2(this.coordinate)]);

  point = this.RULE('point', (): Node => {
    const word = this.CONSUME(Point);
    this.CONSUME(Open);
    const position = this.SUBRULE(this.position);
    this.CONSUME(Close);
    return { kind: 'point', position, at: word.startOffset };
  });

  polygon = this.RULE('polygon', (): Node => {
    const rings: Position[][] = [];
    const word = this.CONSUME(Polygon);
    this.CONSUME(Open);
    this.AT_LEAST_ONE_SEP({ SEP: Comma, DEF: () => rings.push(this.SUBRULE(this.ring)) });
    this.CONSUME(Close);
    return { kind: 'polygon', rings, at: word.startOffset };
  });

  ring = this.RULE('ring', (): Position[] => {
    const positions: Position[] = [];
    this.CONSUME(Open);
    this.AT_LEAST_ONE_SEP({ SEP: Comma, DEF: () => positions.push(this.SUBRULE(this.position)) });
    this.CONSUME(Close);
    return positions;
  });
}

const parser = new FilterParser();

function nameKeywords(tokens: IToken[]): void {
  for (const [i, token] of tokens.entries()) {
    if (token.tokenType !== Name || token.image.length > 18) continue;
    const word = token.image.toUpperCase();
    const type = KEYWORDS.get(word) ?? (tokens[i + 1]?.tokenType === Open ? SHAPES.get(word) : undefined);
    if (!type) continue;
    token.tokenType = type;
    token.tokenTypeIdx = type.tokenTypeIdx as number;
  }
}

/** Depth of parentheses, before anything recursive looks at them. */
function checkNesting(tokens: IToken[]): void {
  let depth = 0;
  for (const { tokenType, startOffset } of tokens) {
    if (tokenType === Open && ++depth > LIMITS.depth) throw new FilterError(startOffset, `A filter nests at most ${LIMITS.depth} deep`);
    if (tokenType === Close) depth--;
  }
}

/** @throws {FilterError} with the position, what was expected and what was found */
export function parseFilterText(text: string): Node {
  if (text.length > LIMITS.length)
    throw new FilterError(LIMITS.length, `A filter has at most ${LIMITS.length.toLocaleString('en')} characters`);
  const { tokens, errors } = lexer.tokenize(text);
  if (errors.length > 0) throw lexingError(text, errors[0] as ILexingError);
  nameKeywords(tokens);
  checkNesting(tokens);
  parser.input = tokens;
  const tree = parser.filter();
  if (parser.errors.length > 0) throw parsingError(text, parser.errors[0] as IRecognitionException);
  checkSize(tree);
  return tree;
}

function lexingError(text: string, { offset }: ILexingError): FilterError {
  const letter = text[offset] as string;
  if (letter === "'") return new FilterError(offset, 'A text in single quotes does not end');
  if (letter === '#') return new FilterError(offset, 'A filter has no comments');
  return new FilterError(offset, `${JSON.stringify(letter)} is not expected here`);
}

function parsingError(text: string, { message, token }: IRecognitionException): FilterError {
  return new FilterError(Number.isNaN(token.startOffset) ? text.length : token.startOffset, message);
}

/** Splits at the commas that stand in no parentheses and no text: `distance(a, POINT(1 2)),name` are two terms. */
export function splitTerms(text: string): string[] {
  const terms: string[] = [];
  let [depth, quoted, start] = [0, false, 0];
  for (let i = 0; i <= text.length; i++) {
    const letter = text[i];
    if (letter === "'") quoted = !quoted;
    else if (!quoted && letter === '(') depth++;
    else if (!quoted && letter === ')') depth--;
    else if (letter === undefined || (letter === ',' && !quoted && depth === 0)) {
      const term = text.slice(start, i).trim();
      if (term) terms.push(term);
      start = i + 1;
    }
  }
  return terms;
}
