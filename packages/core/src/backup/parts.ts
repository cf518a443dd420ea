/**
 * Where the rows of a table are cut into parts. A part ends at a row whose key says so, not after a count of rows: a row that
 * is added or removed changes the part it is in, and the others are the same as in the backup before, and not stored again.
 */

/** In characters. A part is as a rule between the two; rows that are large themselves may make it larger. */
export const PART_LEAST = 1_000_000;
export const PART_MOST = 8_000_000;
/** One row in so many may end a part. */
const ONE_IN = 2_048;

/** FNV-1a with 32 bits, over UTF-16 code units. */
function hashOf(text: string): number {
  let hash = 0x811c9dc5;
  for (let i = 0; i < text.length; i++) hash = Math.imul(hash ^ text.charCodeAt(i), 0x01000193);
  return hash >>> 0;
}

/**
 * Whether a part ends after a row.
 * @param key of the row @param length of the part so far, with the row, in characters
 */
export function endsPart(key: string, length: number): boolean {
  if (length < PART_LEAST) return false;
  return length >= PART_MOST || hashOf(key) % ONE_IN === 0;
}
