/** Import by key: rows that name a record by its key change it, others create one. */
import { Problem } from '@orchard/contract';
import type { FieldType, Json, JsonObject } from '@orchard/core';
import { countRecords } from '../collections/fitStore.js';
import { type CollectionShape, presentRow, type RecordRow } from '../collections/shape.js';
import { findByKey } from './keyStore.js';

/** Without an index, each thousand rows read the whole table. */
const MOST_WITHOUT_INDEX = 10_000;
const NO_KEY: ReadonlySet<FieldType> = new Set(['place', 'list', 'object']);

export type Keyed = { line: number; values: JsonObject };
/** What a row names: nothing yet, a record, or why it cannot be told. */
export type Named = { row: RecordRow | null } | { problem: string };

export class RowKeys {
  /** Lines by the keys that the file has brought. */
  readonly #lines = new Map<string, number>();

  private constructor(readonly key: readonly string[]) {}

  /** @throws {Problem} invalid-input for a key that is none; null without one */
  static async of(text: string | undefined, shape: CollectionShape | null): Promise<RowKeys | null> {
    if (!text) return null;
    const key = text.split(',').map((name) => name.trim());
    for (const name of key) {
      const type = name === 'id' ? 'text' : shape?.fields.get(name)?.type;
      if (shape && !type) throw invalid(`\`${shape.name}\` has no field \`${name}\`.`);
      if (type && NO_KEY.has(type)) throw invalid(`Field \`${name}\` is ${type}, which cannot be a key.`);
    }
    if (shape && !hasIndex(shape, key) && (await countRecords(shape)) > MOST_WITHOUT_INDEX)
      throw invalid(
        `\`${shape.name}\` has more than ${MOST_WITHOUT_INDEX.toLocaleString('en')} records and no index that begins with ${key.join(' or ')}: each row would look through all of them. Add an index first.`,
      );
    return new RowKeys(key);
  }

  /** What each row names, in their order. @param shape null: the collection is not there yet */
  async find(shape: CollectionShape | null, rows: readonly Keyed[]): Promise<Named[]> {
    const keys = rows.map(({ values }) => this.key.map((name) => values[name] ?? null));
    const whole = keys.filter((values) => values.every((value) => value !== null));
    const records = new Map<string, RecordRow[]>();
    for (const row of shape && whole.length > 0 ? await findByKey(shape, this.key, whole) : []) {
      const record = presentRow(shape as CollectionShape, row, null, true);
      const text = textOf(this.key.map((name) => record[name] ?? null));
      records.set(text, [...(records.get(text) ?? []), row]);
    }
    return keys.map((values, i) => this.#named(values, rows[i]?.line ?? 0, records));
  }

  #named(values: readonly Json[], line: number, records: ReadonlyMap<string, RecordRow[]>): Named {
    const missing = this.key.filter((_, i) => values[i] === null);
    if (missing.length > 0) return { problem: `The key is missing: \`${missing.join('`, `')}\` is empty.` };
    const text = textOf(values);
    const before = this.#lines.get(text);
    if (before !== undefined) return { problem: `Line ${before} has the same key.` };
    this.#lines.set(text, line);
    const found = records.get(text) ?? [];
    if (found.length > 1) return { problem: `${found.length} records have this key, so it does not tell which one is meant.` };
    return { row: found[0] ?? null };
  }
}

/** Whether a row says what stands in the record already. */
export function saysTheSame(shape: CollectionShape, row: RecordRow, values: JsonObject): boolean {
  const record = presentRow(shape, row, null, true);
  return Object.entries(values).every(([name, value]) => JSON.stringify(record[name] ?? null) === JSON.stringify(value ?? null));
}

const textOf = (values: readonly Json[]): string => JSON.stringify(values);
const hasIndex = ({ indexes }: CollectionShape, key: readonly string[]): boolean =>
  key.includes('id') || indexes.some(({ fields, kind }) => kind !== 'place' && key.includes(fields[0] as string));
const invalid = (problem: string) =>
  new Problem('invalid-input', problem, {
    fields: [{ path: 'query.key', problem, expected: 'fields that tell records apart, such as `name`' }],
  });
