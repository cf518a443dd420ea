/** One property of a day's events: words by code, or numbers. */
import { IntReader, IntWriter } from './ints.js';

export type Codes = Uint8Array | Uint16Array | Uint32Array;
/** Code 0 is no value; code n is `words[n - 1]`. */
export type WordColumn = { kind: 'words'; words: string[]; codes: Codes };
/** NaN is no value. */
export type NumberColumn = { kind: 'numbers'; values: Float64Array };
export type Column = WordColumn | NumberColumn;

export function codesFor(length: number, words: number): Codes {
  return words < 0xff ? new Uint8Array(length) : words < 0xffff ? new Uint16Array(length) : new Uint32Array(length);
}

/** @param values one for each row; null for none */
export function wordColumn(values: readonly (string | null)[]): WordColumn {
  const numbers = new Map<string, number>();
  for (const value of values) if (value !== null && !numbers.has(value)) numbers.set(value, numbers.size + 1);
  const codes = codesFor(values.length, numbers.size);
  for (const [row, value] of values.entries()) codes[row] = value === null ? 0 : (numbers.get(value) as number);
  return { kind: 'words', words: [...numbers.keys()], codes };
}

const WORDS = 1;
const WHOLE = 2;
const FLOATS = 3;

/** As bytes, to be compressed: a kind, then words and codes, or numbers. */
export function writeColumn(column: Column): Uint8Array {
  if (column.kind === 'words') {
    const words = new TextEncoder().encode(JSON.stringify(column.words));
    const { codes } = column;
    const head = new IntWriter();
    head.write(WORDS);
    head.write(codes.BYTES_PER_ELEMENT);
    head.write(words.length);
    return joined(Uint8Array, [head.bytes, words, new Uint8Array(codes.buffer, codes.byteOffset, codes.byteLength)]);
  }
  return writeNumbers(column.values);
}

function writeNumbers(values: Float64Array): Uint8Array {
  const head = new IntWriter();
  if (
    !values.every((value) => Number.isNaN(value) || (Number.isSafeInteger(value) && Math.abs(value) < 2 ** 51 && !Object.is(value, -0)))
  ) {
    head.write(FLOATS);
    return joined(Uint8Array, [head.bytes, new Uint8Array(values.buffer, values.byteOffset, values.byteLength)]);
  }
  head.write(WHOLE);
  head.write(values.length);
  for (const value of values) {
    if (Number.isNaN(value)) head.write(0);
    else head.writeSigned(value < 0 ? value : value + 1);
  }
  return head.bytes;
}

/** Gives out the bytes in which numbers of an open day lie: those of one thread, or of all. */
export type Memory = (bytes: number) => ArrayBuffer | SharedArrayBuffer;
export const OWN_MEMORY: Memory = (bytes) => new ArrayBuffer(bytes);
export const SHARED_MEMORY: Memory = (bytes) => new SharedArrayBuffer(bytes);

/** A copy that begins where a buffer does: typed arrays need an aligned start, and the `slice` of a Node.js Buffer would be a view. */
export function copyFrom(bytes: Uint8Array, start = 0, memory = OWN_MEMORY): Uint8Array {
  const copy = new Uint8Array(memory(bytes.length - start));
  copy.set(bytes.subarray(start));
  return copy;
}

export function readColumn(bytes: Uint8Array, memory = OWN_MEMORY): Column {
  const kind = bytes[0] as number;
  if (kind === WORDS) {
    const size = bytes[1] as number;
    const head = new IntReader(bytes, 2);
    const length = head.read();
    const start = 2 + lengthOfInt(length);
    const words = JSON.parse(new TextDecoder().decode(bytes.subarray(start, start + length))) as string[];
    const raw = copyFrom(bytes, start + length, memory);
    const codes = size === 1 ? raw : size === 2 ? new Uint16Array(raw.buffer) : new Uint32Array(raw.buffer);
    return { kind: 'words', words, codes };
  }
  if (kind === FLOATS) return { kind: 'numbers', values: new Float64Array(copyFrom(bytes, 1, memory).buffer) };
  const reader = new IntReader(bytes, 1);
  const values = new Float64Array(memory(reader.read() * 8));
  for (let row = 0; row < values.length; row++) {
    const value = reader.readSigned();
    // Zero is no value, so what is not negative moved up by one.
    values[row] = value === 0 ? Number.NaN : value < 0 ? value : value - 1;
  }
  return { kind: 'numbers', values };
}

const lengthOfInt = (value: number): number => (value < 0x80 ? 1 : 1 + lengthOfInt(Math.floor(value / 0x80)));

/** Numbers of several arrays in one, in their order. */
export function joined<Numbers extends Uint8Array | Uint32Array | Float64Array>(
  Kind: new (length: number) => Numbers,
  parts: readonly Numbers[],
): Numbers {
  const all = new Kind(parts.reduce((sum, { length }) => sum + length, 0));
  let at = 0;
  for (const part of parts) {
    all.set(part, at);
    at += part.length;
  }
  return all;
}
