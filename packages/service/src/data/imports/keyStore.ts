/** Finds the records that rows of a file name by their key. Raw SQL: the columns are data. */
import type { Json } from '@orchard/core';
import { stored } from '../collections/columns.js';
import type { CollectionShape, RecordRow } from '../collections/shape.js';

const AT_ONCE = 500;

/** @param keys values of the key's fields, in their order */
export async function findByKey(shape: CollectionShape, key: readonly string[], keys: readonly Json[][]): Promise<RecordRow[]> {
  const columns = key.map((name) => `\`${name}\``).join(', ');
  const typeOf = (name: string) => shape.fields.get(name)?.type ?? 'text';
  const found: RecordRow[] = [];
  for (let from = 0; from < keys.length; from += AT_ONCE) {
    const bound: unknown[] = [];
    const tuples = keys.slice(from, from + AT_ONCE).map((values) => {
      const cells = values.map((value, i) => {
        const cell = stored(typeOf(key[i] as string), value);
        bound.push(...cell.values);
        return cell.sql;
      });
      return `(${cells.join(', ')})`;
    });
    found.push(...(await shape.db.runRows<RecordRow>(`SELECT * FROM ${shape.table} WHERE (${columns}) IN (${tuples.join(', ')})`, bound)));
  }
  return found;
}
