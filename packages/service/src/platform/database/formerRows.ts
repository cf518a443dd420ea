/** Rows of the version before, which stood in the system database and now belong to the database of their environment. */
import type { MySqlColumn, MySqlTable } from 'drizzle-orm/mysql-core';
import type { Database } from './connection.js';

/** The environments that a table of the system database has rows of. */
export async function haveFormerRows<E extends { id: string }>(
  { orm }: Pick<Database, 'orm'>,
  table: MySqlTable & { environmentId: MySqlColumn },
  environments: readonly E[],
): Promise<E[]> {
  const rows = await orm.selectDistinct({ id: table.environmentId }).from(table);
  return environments.filter(({ id }) => rows.some((row) => row.id === id));
}
