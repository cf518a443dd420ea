/** Reads and writes CQL2 JSON (OGC 21-065r2 clause 8 and annex C). */
import { isPlainObject, type Json, type JsonObject } from '../json.js';
import type { Position } from './geometry.js';
import { box, instant } from './textForms.js';
import { type At, call, checkSize, FilterError, LIMITS, type Node } from './tree.js';

/** @throws {FilterError} with the path of what does not fit */
export function parseFilterJson(value: Json): Node {
  const tree = read(value, '$', 0);
  checkSize(tree);
  return tree;
}

function read(value: Json, at: string, depth: number): Node {
  if (depth > LIMITS.depth) throw new FilterError(at, `A filter nests at most ${LIMITS.depth} deep`);
  if (typeof value === 'string' || typeof value === 'number' || typeof value === 'boolean') return { kind: 'literal', value, at };
  if (Array.isArray(value)) return { kind: 'array', items: value.map((item, i) => read(item, `${at}[${i}]`, depth + 1)), at };
  if (!isPlainObject(value)) throw new FilterError(at, 'Expected a value, found null');
  if ('op' in value) return readCall(value, at, depth);
  if (typeof value.property === 'string') return { kind: 'property', name: value.property, at };
  if (typeof value.date === 'string') return { kind: 'instant', unit: 'date', text: value.date, at };
  if (typeof value.timestamp === 'string') return { kind: 'instant', unit: 'timestamp', text: value.timestamp, at };
  if (Array.isArray(value.interval)) {
    const ends = value.interval.map((end, i) =>
      typeof end === 'string' ? instant(end, `${at}.interval[${i}]`) : read(end, `${at}.interval[${i}]`, depth + 1),
    );
    return call('interval', ends, at);
  }
  if (Array.isArray(value.bbox))
    return box(
      value.bbox.map((n) => (typeof n === 'number' ? n : Number.NaN)),
      at,
    );
  if (value.type === 'Point' && isPosition(value.coordinates)) return { kind: 'point', position: value.coordinates, at };
  if (
    value.type === 'Polygon' &&
    Array.isArray(value.coordinates) &&
    value.coordinates.every((ring) => Array.isArray(ring) && ring.every(isPosition))
  )
    return { kind: 'polygon', rings: value.coordinates as unknown as Position[][], at };
  throw new FilterError(
    at,
    'Expected one of: {"op": …, "args": […]}, {"property": …}, {"date": …}, {"timestamp": …}, {"interval": […]}, {"bbox": […]}, a GeoJSON Point or Polygon',
  );
}

const isPosition = (value: Json | undefined): value is [number, number] =>
  Array.isArray(value) && value.length === 2 && value.every((n) => typeof n === 'number');

function readCall({ op, args }: JsonObject, at: At, depth: number): Node {
  if (typeof op !== 'string') throw new FilterError(at, "Expected the operator's name in `op`");
  if (!Array.isArray(args)) throw new FilterError(at, `Expected a list in \`args\` of ${op}`);
  return call(
    op,
    args.map((arg, i) => read(arg, `${at}.args[${i}]`, depth + 1)),
    at,
  );
}

/** A tree as CQL2 JSON. */
export function writeFilterJson(node: Node): Json {
  switch (node.kind) {
    case 'literal':
      return node.value;
    case 'property':
      return { property: node.name };
    case 'instant':
      return node.unit === 'open' ? node.text : { [node.unit]: node.text };
    case 'point':
      return { type: 'Point', coordinates: [...node.position] };
    case 'polygon':
      return { type: 'Polygon', coordinates: node.rings.map((ring) => ring.map((position) => [...position])) };
    case 'box':
      return { bbox: node.bounds };
    case 'array':
      return node.items.map(writeFilterJson);
    case 'call':
      if (node.op === 'interval') return { interval: node.args.map((end) => (end.kind === 'instant' ? end.text : writeFilterJson(end))) };
      return { op: node.op, args: node.args.map(writeFilterJson) };
  }
}
