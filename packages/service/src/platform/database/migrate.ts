/** Migrates the databases to the schema of this version. */
import { readFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { drizzle } from 'drizzle-orm/mysql2';
import { migrate } from 'drizzle-orm/mysql2/migrator';
import { askEach } from './askEach.js';
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

/** When the newest migration of environments was made, in milliseconds since 1970: names their form. */
export const newestMigration = (): number => newest('environment');

/** Those whose database is missing or of an earlier version, or cannot be asked: migrating it will report why. */
export async function outdated<E extends { db: EnvironmentDatabase }>(environments: readonly E[]): Promise<E[]> {
  const made = await askEach<number, E>(environments, (db) => `SELECT MAX(created_at) FROM ${db.collection('_migrations')}`);
  const latest = newestMigration();
  return environments.filter((one) => Number(made.get(one) ?? 0) < latest);
}

/** Creates the environment's database if there is none, and migrates it. */
export async function migrateEnvironment(db: EnvironmentDatabase): Promise<void> {
  if ((await outdated([{ db }])).length === 0) return;
  await db.withLease(
    'migrate',
    async () => {
      await db.create();
      await migrateDatabase(db.server, db.name, 'environment');
    },
    { waitS: WAIT_S },
  );
}
