/** Writes a tree as CQL2 text, with no more parentheses than the standard's precedence needs. */
import { type Call, COMPARISONS, FilterError, isCall, type Node } from './tree.js';

const PRECEDENCE = new Map<string, number>([
  ['or', 1],
  ['and', 2],
  ['not', 3],
  ...['like', 'between', 'in', 'isNull', ...COMPARISONS].map((operator) => [operator, 4] as const),
  ['+', 5],
  ['-', 5],
  ['*', 6],
  ['/', 6],
  ['%', 6],
  ['div', 6],
  ['^', 7],
]);
/** Arguments of the operators that text has no other form for. */
const argumentsOf = (op: string): number => (op === 'between' ? 3 : op === 'not' || op === 'isNull' ? 1 : 2);
const WORDS = /^(and|or|not|like|between|in|is|null|true|false|div)$/i;
/** After a backslash a quote is escaped by another backslash: `\\''` would be read as `\\'` and the end. */
const quote = (text: string) => `'${text.replace(/'/g, (_, at: number) => (text[at - 1] === '\\' ? "\\'" : "''"))}'`;
const positionText = (position: readonly number[]) => position.join(' ');

/** @throws {FilterError} where an operator has more or fewer arguments than its text can say */
export function writeFilterText(node: Node): string {
  switch (node.kind) {
    case 'literal':
      return typeof node.value === 'string'
        ? quote(node.value)
        : typeof node.value === 'boolean'
          ? String(node.value).toUpperCase()
          : String(node.value);
    case 'property':
      return WORDS.test(node.name) ? `"${node.name}"` : node.name;
    case 'instant':
      return node.unit === 'open' ? "'..'" : `${node.unit.toUpperCase()}('${node.text}')`;
    case 'point':
      return `POINT(${positionText(node.position)})`;
    case 'polygon':
      return `POLYGON(${node.rings.map((ring) => `(${ring.map(positionText).join(', ')})`).join(', ')})`;
    case 'box':
      return `BBOX(${node.bounds.join(', ')})`;
    case 'array':
      return `(${node.items.map(writeFilterText).join(', ')})`;
    case 'call':
      return writeCall(node);
  }
}

function writeCall({ op, args, at }: Call): string {
  const level = PRECEDENCE.get(op);
  if (level === undefined) {
    const ends =
      op === 'interval' ? args.map((end) => (end.kind === 'instant' ? `'${end.text}'` : writeFilterText(end))) : args.map(writeFilterText);
    return `${/^(casei|accenti|interval|[sta]_[a-z]+)$/.test(op) ? op.toUpperCase() : op}(${ends.join(', ')})`;
  }
  const inside = (node: Node, from: number) =>
    node.kind === 'call' && (PRECEDENCE.get(node.op) ?? from) < from ? `(${writeFilterText(node)})` : writeFilterText(node);
  if (op === 'and' || op === 'or') {
    if (args.length < 2) throw new FilterError(at, `\`${op}\` joins two conditions or more`);
    return args.map((arg) => inside(arg, level + 1)).join(` ${op.toUpperCase()} `);
  }
  const count = argumentsOf(op);
  if (args.length !== count) throw new FilterError(at, `\`${op}\` takes ${count === 1 ? 'one argument' : `${count} arguments`}`);
  const [first, second, third] = args as [Node, Node, Node];
  switch (op) {
    case 'not':
      if (isCall(first, 'isNull') && first.args.length === 1) return `${inside(first.args[0] as Node, 5)} IS NOT NULL`;
      return `NOT ${inside(first, level + 1)}`;
    case 'isNull':
      return `${inside(first, 5)} IS NULL`;
    case 'like':
      return `${inside(first, 5)} LIKE ${writeFilterText(second)}`;
    case 'in':
      return `${inside(first, 5)} IN ${second.kind === 'array' ? writeFilterText(second) : `(${writeFilterText(second)})`}`;
    case 'between':
      return `${inside(first, 5)} BETWEEN ${inside(second, 5)} AND ${inside(third, 5)}`;
    default:
      return `${inside(first, level === 4 ? 5 : level)} ${op === 'div' ? 'DIV' : op} ${inside(second, level + 1)}`;
  }
}
