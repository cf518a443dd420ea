import { getTableName } from 'drizzle-orm';
import type { MySqlTable } from 'drizzle-orm/mysql-core';
import type { HeldLease, LeaseOptions, Leases } from './leases.js';
import type { Database, Statements } from './connection.js';

/** Where Drizzle keeps a table's schema. */
const SCHEMA = Symbol.for('drizzle:Schema');

/**
 * The database of one environment: its server, its name there, and its tables. All work on an environment's data goes
 * through this; no SQL names a database.
 */
export class EnvironmentDatabase implements Statements {
  rows!: Statements['rows'];
  change!: Statements['change'];
  run!: Statements['run'];
  runRows!: Statements['runRows'];
  transaction!: Database['transaction'];
  unit!: Database['unit'];
  #server!: Database;
  readonly #tables = new Map<MySqlTable, MySqlTable>();

  /** @param server the pool of the server that holds it @param name of the database on that server */
  constructor(
    server: Database,
    readonly name: string,
    private readonly leases: Leases,
  ) {
    this.moveTo(server);
  }

  get server(): Database {
    return this.#server;
  }

  /** The environment is on another server from now on: whoever holds this goes on there. */
  moveTo(server: Database): void {
    this.#server = server;
    ({
      rows: this.rows,
      change: this.change,
      run: this.run,
      runRows: this.runRows,
      transaction: this.transaction,
      unit: this.unit,
    } = server);
  }

  get orm(): Database['orm'] {
    return this.server.orm;
  }

  /**
   * One of our tables in this database, for the query builder. All environments share its columns; only the schema differs.
   */
  table<T extends MySqlTable>(table: T): T {
    let own = this.#tables.get(table);
    if (!own) {
      own = Object.create(table, { [SCHEMA]: { value: this.name } }) as MySqlTable;
      this.#tables.set(table, own);
    }
    return own as T;
  }

  /** The same table's name, for SQL that the builder cannot say. */
  of(table: MySqlTable): string {
    return this.collection(getTableName(table));
  }

  /** The name of a collection's table, for SQL. */
  collection(name: string): string {
    return `\`${this.name}\`.\`${name}\``;
  }

  create(): Promise<unknown> {
    return this.run(`CREATE DATABASE IF NOT EXISTS \`${this.name}\` CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin`);
  }

  drop(): Promise<unknown> {
    return this.run(`DROP DATABASE IF EXISTS \`${this.name}\``);
  }

  /** The same database on another server, beside this one. */
  on(server: Database): EnvironmentDatabase {
    return new EnvironmentDatabase(server, this.name, this.leases);
  }

  /**
   * Runs `work` while no other work, on any instance, holds the same name in this environment.
   * @throws {Problem} busy
   */
  withLease<T>(name: string, work: (lease: HeldLease) => Promise<T>, options?: LeaseOptions): Promise<T> {
    return this.leases.with(`${name} ${this.name}`, work, options);
  }
}
