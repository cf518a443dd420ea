/** Migrates the databases to the schema of this version. */
import { readFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { drizzle } from 'drizzle-orm/mysql2';
import { migrate } from 'drizzle-orm/mysql2/migrator';
import type { Database } from './connection.js';
import type { EnvironmentDatabase } from './environmentDatabase.js';
import type { Servers } from './servers.js';

const folderOf = (part: 'system' | 'environment') => fileURLToPath(new URL(`../../../migrations/${part}`, import.meta.url));

/** On a separate connection: changing the database of the one that holds the lock would release the lock. */
const migrateDatabase = (database: Database, name: string, part: 'system' | 'environment'): Promise<void> =>
  database.inDatabase(name, (connection) =>
    migrate(drizzle(connection as never), { migrationsFolder: folderOf(part), migrationsTable: '_migrations' }),
  );

/** Instances that start at once wait for each other; large tables can take long. */
const WAIT_S = 600;

export async function migrateSystem({ main, leases }: Servers): Promise<void> {
  await leases.prepare();
  await leases.with('migrate', () => migrateDatabase(main, main.name, 'system'), { waitS: WAIT_S });
}

/** The time of the newest migration, as Drizzle records it for applied ones. */
const newest = (part: 'system' | 'environment'): number =>
  (JSON.parse(readFileSync(`${folderOf(part)}/meta/_journal.json`, 'utf8')) as { entries: { when: number }[] }).entries.at(-1)?.when ?? 0;

async function isUpToDate(db: EnvironmentDatabase): Promise<boolean> {
  try {
    const [row] = await db.runRows<{ at: number }>(`SELECT MAX(created_at) AS at FROM ${db.collection('_migrations')}`);
    return Number(row?.at ?? 0) >= newest('environment');
  } catch {
    return false; // There is no such database or table yet, or the migration itself will report the error.
  }
}

/** Creates the environment's database if there is none, and migrates it. */
export async function migrateEnvironment(db: EnvironmentDatabase): Promise<void> {
  if (await isUpToDate(db)) return;
  await db.withLease(
    'migrate',
    async () => {
      await db.create();
      await migrateDatabase(db.server, db.name, 'environment');
    },
    { waitS: WAIT_S },
  );
}
