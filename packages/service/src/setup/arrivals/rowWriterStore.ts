/** Makes rows of an environment what they are elsewhere. Raw SQL: the tables are data. */
import type { ArchiveTable } from '@orchard/contract';
import mysql from 'mysql2/promise';
import { connectionSettings } from '../../platform/database/nodes.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';

/**
 * Some rows of a table: those of `keys` are as `rows` says, and gone where it has none.
 * Values are as the database writes them; positions are hexadecimal.
 */
export type TableChange = { table: string; key: string[]; columns: ArchiveTable['columns']; keys: unknown[][]; rows: unknown[][] };

/** `col = ?` of one column, `(a, b) IN` of several, with what is bound to it. */
export function whichRows({ key, keys }: Pick<TableChange, 'key' | 'keys'>): { sql: string; bound: unknown[] } {
  const named = key.map((name) => `\`${name}\``).join(', ');
  return key.length === 1 ? { sql: `${named} IN (?)`, bound: [keys.map(([value]) => value)] } : { sql: `(${named}) IN (?)`, bound: [keys] };
}

export const countSql = (db: EnvironmentDatabase, tables: readonly string[]): string =>
  tables.map((name) => `SELECT '${name}' AS name, COUNT(*) AS count FROM ${db.collection(name)}`).join(' UNION ALL ');

/** A connection on which no trigger makes entries of the change feed: those come like all rows. */
export class RowWriter {
  private constructor(
    private readonly connection: mysql.Connection,
    private readonly to: EnvironmentDatabase,
  ) {}

  static async open(to: EnvironmentDatabase): Promise<RowWriter> {
    const connection = await mysql.createConnection(connectionSettings(to.server.url));
    connection.on('error', () => undefined);
    await connection.query(
      "SET SESSION foreign_key_checks = 0, @orchard_copying = 1, sql_mode = CONCAT(@@sql_mode, ',NO_AUTO_VALUE_ON_ZERO')",
    );
    return new RowWriter(connection, to);
  }

  close(): void {
    this.connection.destroy();
  }

  async write(change: TableChange): Promise<void> {
    if (change.keys.length === 0) return;
    const { columns, rows } = change;
    const into = this.to.collection(change.table);
    const which = whichRows(change);
    await this.connection.query('START TRANSACTION');
    await this.connection.query(`DELETE FROM ${into} WHERE ${which.sql}`, which.bound);
    if (rows.length > 0) {
      const marks = `(${columns.map(({ form }) => (form === 'position' ? 'UNHEX(?)' : '?')).join(', ')})`;
      const names = columns.map(({ name }) => `\`${name}\``).join(', ');
      await this.connection.query(`REPLACE INTO ${into} (${names}) VALUES ${rows.map(() => marks).join(', ')}`, rows.flat());
    }
    await this.connection.query('COMMIT');
  }

  /** The number of rows of each table. */
  async count(tables: readonly string[]): Promise<Map<string, number>> {
    if (tables.length === 0) return new Map();
    const [rows] = await this.connection.query<mysql.RowDataPacket[]>(countSql(this.to, tables));
    return new Map(rows.map(({ name, count }) => [name as string, Number(count)]));
  }
}
