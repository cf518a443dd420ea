/** Brings the databases to the shape this version expects. */
import { fileURLToPath } from 'node:url';
import { drizzle } from 'drizzle-orm/mysql2';
import { migrate } from 'drizzle-orm/mysql2/migrator';
import type { PoolConnection } from 'mysql2/promise';
import type { Database } from './connection.js';

const folderOf = (part: 'system' | 'environment') => fileURLToPath(new URL(`../../migrations/${part}`, import.meta.url));

async function migrateDatabase(connection: PoolConnection, database: string, part: 'system' | 'environment'): Promise<void> {
  await connection.changeUser({ database });
  await migrate(drizzle(connection as never), { migrationsFolder: folderOf(part), migrationsTable: '_migrations' });
}

/** Under a lock, so that instances may start at once. */
export async function migrateSystem(database: Database): Promise<void> {
  await database.withLock(`${database.name}:migrate`, (connection) => migrateDatabase(connection, database.name, 'system'));
}

/** The database of an environment. */
export const environmentDatabase = (database: Database, environmentId: string) => `${database.name}_${environmentId}`;

/** Creates the environment's database if there is none, and migrates it. */
export async function migrateEnvironment(database: Database, environmentId: string): Promise<void> {
  const name = environmentDatabase(database, environmentId);
  await database.withLock(`${database.name}:migrate`, async (connection) => {
    await connection.query(`CREATE DATABASE IF NOT EXISTS \`${name}\` CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin`);
    await migrateDatabase(connection, name, 'environment');
    // A pooled connection goes back to where the pool's connections stand.
    await connection.changeUser({ database: database.name });
  });
}
