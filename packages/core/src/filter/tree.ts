/**
 * The syntax tree of a filter in CQL2 (OGC 21-065r2). It has the shape of the standard's JSON encoding (clause 8):
 * operators and functions are calls, with the names the JSON encoding gives them. Both encodings are read to it.
 */
import type { Position } from './geometry.js';

/** Where in the source: a character counted from 0 (text), or a path such as `args[0]` (JSON). */
export type At = number | string;

export type Node =
  | { kind: 'literal'; value: string | number | boolean; at: At }
  | { kind: 'property'; name: string; at: At }
  /** DATE('…') or TIMESTAMP('…'); `..` is the open end of an interval. */
  | { kind: 'instant'; unit: 'date' | 'timestamp' | 'open'; text: string; at: At }
  | { kind: 'point'; position: Position; at: At }
  | { kind: 'polygon'; rings: Position[][]; at: At }
  /** West, south, east, north. */
  | { kind: 'box'; bounds: [number, number, number, number]; at: At }
  | { kind: 'array'; items: Node[]; at: At }
  | { kind: 'call'; op: string; args: Node[]; at: At };
export type Call = Extract<Node, { kind: 'call' }>;

export const COMPARISONS = ['=', '<>', '<', '<=', '>', '>='] as const;
export type Comparison = (typeof COMPARISONS)[number];
export const ARITHMETIC = ['+', '-', '*', '/', '%', 'div', '^'] as const;
export type Arithmetic = (typeof ARITHMETIC)[number];

/** The limits of a filter, checked before it runs. */
export const LIMITS = {
  /** Steps of a path inside an object. */
  objectSteps: 10,
  length: 16_000,
  depth: 40,
  nodes: 1_000,
  wildcards: 10,
  vertices: 500,
  references: 5,
  folds: 4,
} as const;

/** A filter that cannot be used: where, and what would be right. */
export class FilterError extends Error {
  constructor(
    readonly position: At,
    problem: string,
  ) {
    super(`${problem} (${typeof position === 'number' ? `at character ${position + 1} of the filter` : `at ${position} of the filter`})`);
    this.name = 'FilterError';
  }
}

export const call = (op: string, args: Node[], at: At): Call => ({ kind: 'call', op, args, at });
/** True for a call of one of these operators. */
export const isCall = (node: Node, ...ops: string[]): node is Call => node.kind === 'call' && ops.includes(node.op);

/** Checks depth and size. @throws {FilterError} */
export function checkSize(root: Node): void {
  let nodes = 0;
  const walk = (node: Node, depth: number): void => {
    if (++nodes > LIMITS.nodes) throw new FilterError(node.at, `A filter has at most ${LIMITS.nodes} parts`);
    if (depth > LIMITS.depth) throw new FilterError(node.at, `A filter nests at most ${LIMITS.depth} deep`);
    for (const inner of node.kind === 'call' ? node.args : node.kind === 'array' ? node.items : []) walk(inner, depth + 1);
  };
  walk(root, 0);
}
