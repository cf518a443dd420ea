/** What the parts of a filter in CQL2 text mean, whoever reads them. */
import { call, FilterError, type Node } from './tree.js';

/** Clause B of the standard: a quote inside a text is doubled, or follows a backslash. */
export const unquote = (image: string): string => image.slice(1, -1).replace(/''|\\'/g, "'");

export function negative(value: Node, at: number): Node {
  if (value.kind === 'literal' && typeof value.value === 'number') return { kind: 'literal', value: -value.value, at };
  return call('*', [{ kind: 'literal', value: -1, at }, value], at);
}

const textOf = (node: Node | undefined) => (node?.kind === 'literal' && typeof node.value === 'string' ? node.value : null);

/** What is written as a function: instants and boxes have nodes of their own, everything else is a call. */
export function named(name: string, args: Node[], at: number): Node {
  const lower = name.toLowerCase();
  switch (lower) {
    case 'date':
    case 'timestamp': {
      const text = textOf(args[0]);
      if (text === null || args.length !== 1)
        throw new FilterError(
          at,
          `${name.toUpperCase()} takes one text, such as ${lower === 'date' ? "DATE('2026-07-14')" : "TIMESTAMP('2026-07-14T06:00:00Z')"}`,
        );
      return { kind: 'instant', unit: lower, text, at };
    }
    case 'interval':
      return call('interval', args.map(intervalEnd), at);
    case 'bbox':
      return box(
        args.map((arg) => (arg.kind === 'literal' && typeof arg.value === 'number' ? arg.value : Number.NaN)),
        at,
      );
    default:
      return call(STANDARD.test(lower) ? lower : name, args, at);
  }
}
/** The standard's own functions are recognised in any case; other names are as they are written. */
const STANDARD = /^(casei|accenti|[sta]_[a-z]+)$/;

/** The ends of an interval are texts: a date, a time, or `..` for open (clause 7.8). */
function intervalEnd(node: Node): Node {
  const text = textOf(node);
  return text === null ? node : instant(text, node.at);
}

export const instant = (text: string, at: Node['at']): Node => ({
  kind: 'instant',
  unit: text === '..' ? 'open' : text.includes('T') ? 'timestamp' : 'date',
  text,
  at,
});

export function box(bounds: number[], at: Node['at']): Node {
  if (bounds.length !== 4 || bounds.some(Number.isNaN)) throw new FilterError(at, 'BBOX takes four numbers: west, south, east, north');
  return { kind: 'box', bounds: bounds as [number, number, number, number], at };
}
