/**
 * Digests of ranges of records, by which two copies of a collection find where they differ without sending what is the same.
 * A range holds the ids up to and with its end; the last one is open.
 */

/** What a copy holds of one record. */
export type Held = { id: string; version: number };
/** `until` null: to the end. */
export type RangeDigest = { until: string | null; count: number; digest: string };

/** Records in one range: a difference costs that many ids and versions. */
const RANGE = 200;

/** @param held in the order of ids by UTF-16 code units */
export function digestRanges(held: readonly Held[]): RangeDigest[] {
  const ranges: RangeDigest[] = [];
  for (let from = 0; from < held.length || ranges.length === 0; from += RANGE) {
    const part = held.slice(from, from + RANGE);
    const isLast = from + RANGE >= held.length;
    ranges.push({ until: isLast ? null : (part.at(-1) as Held).id, count: part.length, digest: digestOf(part) });
  }
  return ranges;
}

/** Two sums of 32 bits over id and version (FNV-1a, from two starts). Order does not matter. */
export function digestOf(held: readonly Held[]): string {
  let [a, b] = [0, 0];
  for (const { id, version } of held) {
    const text = `${id}:${version}`;
    a = (a + hash(text, 0x811c9dc5)) >>> 0;
    b = (b + hash(text, 0x1b873593)) >>> 0;
  }
  return a.toString(16).padStart(8, '0') + b.toString(16).padStart(8, '0');
}

function hash(text: string, start: number): number {
  let value = start;
  for (let i = 0; i < text.length; i++) value = Math.imul(value ^ text.charCodeAt(i), 0x01000193);
  return value ^ (value >>> 15);
}

/** The order of ids, the same on every side. */
export const byId = (a: { id: string }, b: { id: string }): number => (a.id < b.id ? -1 : a.id > b.id ? 1 : 0);
