/** Writes a tree as CQL2 text, with no more parentheses than the standard's precedence needs. */
import { COMPARISONS, isCall, type Node } from './tree.js';

const PRECEDENCE: Record<string, number> = {
  or: 1,
  and: 2,
  not: 3,
  like: 4,
  between: 4,
  in: 4,
  isNull: 4,
  '+': 5,
  '-': 5,
  '*': 6,
  '/': 6,
  '%': 6,
  div: 6,
  '^': 7,
};
for (const operator of COMPARISONS) PRECEDENCE[operator] = 4;
const WORDS = /^(and|or|not|like|between|in|is|null|true|false|div)$/i;
/** After a backslash a quote is escaped by another backslash: `\\''` would be read as `\\'` and the end. */
const quote = (text: string) => `'${text.replace(/'/g, (_, at: number) => (text[at - 1] === '\\' ? "\\'" : "''"))}'`;
const positionText = (position: readonly number[]) => position.join(' ');

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
      return writeCall(node.op, node.args);
  }
}

function writeCall(op: string, args: Node[]): string {
  const level = PRECEDENCE[op];
  const [first, second, third] = args as [Node, Node, Node];
  if (level === undefined) {
    const ends =
      op === 'interval' ? args.map((end) => (end.kind === 'instant' ? `'${end.text}'` : writeFilterText(end))) : args.map(writeFilterText);
    return `${/^(casei|accenti|interval|[sta]_[a-z]+)$/.test(op) ? op.toUpperCase() : op}(${ends.join(', ')})`;
  }
  const inside = (node: Node, from: number) =>
    isCall(node, ...Object.keys(PRECEDENCE)) && (PRECEDENCE[node.op] as number) < from
      ? `(${writeFilterText(node)})`
      : writeFilterText(node);
  switch (op) {
    case 'and':
    case 'or':
      return args.map((arg) => inside(arg, level + 1)).join(` ${op.toUpperCase()} `);
    case 'not':
      if (isCall(first, 'isNull')) return `${inside(first.args[0] as Node, 5)} IS NOT NULL`;
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
