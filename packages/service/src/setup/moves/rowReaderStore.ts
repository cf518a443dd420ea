/** Reads rows that changed, as the database writes them. Raw SQL: the tables are data. */
import mysql from 'mysql2/promise';
import { isUnknownColumn } from '../../platform/database/errors.js';
import { connectionSettings } from '../../platform/database/nodes.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { countSql, type TableChange, whichRows } from '../arrivals/rowWriterStore.js';
import type { ReadableTable } from '../backups/structureDdl.js';
import type { ChangedRow } from './captureDdl.js';

/** Rows that are read by one statement. */
const SOME = 200;

export class RowReader {
  private constructor(
    private readonly connection: mysql.Connection,
    private readonly from: EnvironmentDatabase,
  ) {}

  static async open(from: EnvironmentDatabase): Promise<RowReader> {
    const exact = { dateStrings: true, supportBigNumbers: true, bigNumberStrings: true, jsonStrings: true, rowsAsArray: true } as const;
    const connection = await mysql.createConnection({ ...connectionSettings(from.server.url), ...exact });
    connection.on('error', () => undefined);
    return new RowReader(connection, from);
  }

  close(): void {
    this.connection.destroy();
  }

  /** The rows as they are now. Those of a table that is not known yet are left out: it is copied whole before the end. */
  async *read(changes: readonly ChangedRow[], tables: ReadonlyMap<string, ReadableTable>): AsyncGenerator<TableChange> {
    const byTable = new Map<string, Set<string>>();
    for (const { table, key } of changes) {
      const keys = byTable.get(table) ?? new Set();
      byTable.set(table, keys.add(key));
    }
    for (const [name, keys] of byTable) {
      const table = tables.get(name);
      if (!table) continue;
      const all = [...keys].map((key) => JSON.parse(key) as unknown[]);
      for (let at = 0; at < all.length; at += SOME) {
        const change = await this.#some(table, all.slice(at, at + SOME));
        if (change) yield change;
      }
    }
  }

  /** @returns null of a table that is gone or has changed: it is copied whole before the end */
  async #some({ name, key, columns, from }: ReadableTable, keys: unknown[][]): Promise<TableChange | null> {
    const which = whichRows({ key, keys });
    try {
      const [rows] = await this.connection.query<mysql.RowDataPacket[][]>(
        `SELECT ${columns.map(selectOf).join(', ')} FROM ${from} WHERE ${which.sql}`,
        which.bound,
      );
      return { table: name, key, columns, keys, rows };
    } catch (error) {
      if (isUnknownColumn(error)) return null;
      throw error;
    }
  }

  /** The number of rows of each table. */
  async count(tables: readonly string[]): Promise<Map<string, number>> {
    if (tables.length === 0) return new Map();
    const [rows] = await this.connection.query<mysql.RowDataPacket[]>(countSql(this.from, tables));
    return new Map((rows as unknown as [string, unknown][]).map(([name, count]) => [name, Number(count)]));
  }
}

const selectOf = ({ name, form }: ReadableTable['columns'][number]): string => (form === 'position' ? `HEX(\`${name}\`)` : `\`${name}\``);
