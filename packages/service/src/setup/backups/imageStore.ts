/**
 * Rows from the change feed: it holds each record and user as they were after a change, as JSON that the triggers wrote.
 * Raw SQL: the columns are data.
 */
import type { Statements } from '../../platform/database/connection.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';

export type FieldForms = ReadonlyMap<string, 'plain' | 'position'>;
export type Image = { id: string; by: string; image: string };

/** How the columns of a table are written from JSON. */
export async function formsOf(db: EnvironmentDatabase, table: string): Promise<FieldForms> {
  const rows = await db.rows<{ name: string; type: string }>(
    "SELECT COLUMN_NAME AS name, DATA_TYPE AS type FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND IS_GENERATED = 'NEVER'",
    [db.name, table],
  );
  return new Map(rows.map(({ name, type }) => [name, type === 'point' ? 'position' : 'plain']));
}

/**
 * Writes rows as they were.
 * @param into the table in SQL
 * @returns names of values that the table has no column for
 */
export async function writeImages(on: Statements, into: string, forms: FieldForms, images: readonly Image[]): Promise<Set<string>> {
  const unknown = new Set<string>();
  for (const { id, by, image } of images) {
    const values: Record<string, unknown> = { ...(JSON.parse(image) as object), id };
    if (forms.has('_by')) values._by = by;
    for (const name of Object.keys(values))
      if (!forms.has(name)) {
        if (values[name] !== null) unknown.add(name);
        delete values[name];
      }
    const names = Object.keys(values);
    const bound: unknown[] = [];
    const cells = names.map((name) => {
      const value = values[name];
      if (value === null || value === undefined) return 'NULL';
      if (forms.get(name) === 'position') {
        const [x, y] = value as [number | null, number | null];
        if (x === null) return 'NULL';
        bound.push(x, y);
        return 'POINT(?, ?)';
      }
      bound.push(typeof value === 'object' ? JSON.stringify(value) : value);
      return '?';
    });
    await on.run(`REPLACE INTO ${into} (${names.map((name) => `\`${name}\``).join(', ')}) VALUES (${cells.join(', ')})`, bound);
  }
  return unknown;
}
