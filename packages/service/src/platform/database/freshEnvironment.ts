/**
 * A new environment's database. It takes its tables as those of the installation are by now, which have gone through all
 * migrations: to make tables one has to change again takes three times as long, and on a cluster each change waits for
 * every node.
 */
import type mysql from 'mysql2/promise';
import type { EnvironmentDatabase } from './environmentDatabase.js';
import { migrateEnvironment, newestMigration } from './migrate.js';
import type { Servers } from './servers.js';

type Model = {
  /** Its newest migration, in milliseconds since 1970. */
  at: number;
  tables: string[];
};
const models = new WeakMap<Servers, Model>();

/** Rows that migrations put into empty tables. */
const FIRST_ROWS = ['INSERT INTO `_feedCounter` (`id`, `number`) VALUES (1, 0)'];

/** Makes the database with all its tables. @param servers that the installation is on */
export async function createEnvironmentDatabase(servers: Servers, db: EnvironmentDatabase): Promise<void> {
  const { installation } = servers;
  // Another server may be of another version, and read its own words for a table only.
  const model = db.server === servers.main ? await modelOf(servers) : null;
  if (!model) return migrateEnvironment(db);
  await db.create();
  await db.server.inDatabase(db.name, async (connection) => {
    await connection.query('SET foreign_key_checks = 0');
    for (const table of model.tables) await connection.query(table);
    for (const rows of FIRST_ROWS) await connection.query(rows);
    // Last: what is broken off is not taken for a whole one.
    await connection.query('INSERT INTO `_migrations` SELECT * FROM ??._migrations WHERE created_at <= ?', [installation.name, model.at]);
  });
}

/** @returns null where another version of the service, newer or older, has migrated the installation last */
async function modelOf(servers: Servers): Promise<Model | null> {
  const { installation } = servers;
  const [{ at } = { at: 0 }] = await installation.runRows<{ at: number }>(
    `SELECT MAX(created_at) AS at FROM ${installation.collection('_migrations')}`,
  );
  if (Number(at) !== newestMigration()) return null;
  const known = models.get(servers);
  if (known) return known;
  const tables = await installation.server.inDatabase(installation.name, readTables);
  const model = { at: Number(at), tables };
  models.set(servers, model);
  return model;
}

async function readTables(connection: mysql.Connection): Promise<string[]> {
  const [rows] = await connection.query<mysql.RowDataPacket[]>("SHOW FULL TABLES WHERE Table_type = 'BASE TABLE'");
  const tables: string[] = [];
  for (const row of rows) {
    const [[made]] = await connection.query<mysql.RowDataPacket[]>('SHOW CREATE TABLE ??', [Object.values(row)[0]]);
    tables.push(emptied(String(made?.['Create Table'])));
  }
  return tables;
}

/** Without the numbers that rows were given, and without the days that a table is partitioned by. */
const emptied = (table: string): string =>
  table
    .replace(/ AUTO_INCREMENT=\d+/, '')
    .replace(/\n\(PARTITION [\s\S]*?(?=\n?\s*PARTITION `later`)/, '\n(')
    .trim();
