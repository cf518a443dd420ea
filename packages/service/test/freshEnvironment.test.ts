/** The database of a new environment. */
import type { EnvironmentDatabase } from '../src/platform/database/environmentDatabase.js';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { createEnvironmentDatabase } from '../src/platform/database/freshEnvironment.js';
import { migrateEnvironment } from '../src/platform/database/migrate.js';
import { makeApp, startTestService, type TestService } from './support.js';

let test: TestService;
const made: EnvironmentDatabase[] = [];

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
});
afterAll(async () => {
  for (const db of made) await db.drop();
  await test.stop();
});

const newDatabase = (id: string): EnvironmentDatabase => {
  const db = test.service.parts.servers.databaseOf(id, null);
  made.push(db);
  return db;
};

/** Every table as the server would make it again, with its rows. */
async function contentOf(db: EnvironmentDatabase): Promise<Record<string, { table: string; rows: unknown[] }>> {
  const tables = await db.runRows('SELECT TABLE_NAME AS name FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?', [db.name]);
  const content: Record<string, { table: string; rows: unknown[] }> = {};
  for (const { name } of tables as unknown as { name: string }[]) {
    const [shown] = await db.runRows<{ 'Create Table': string }>(`SHOW CREATE TABLE ${db.collection(name)}`);
    // The number that the next row gets is no part of the structure.
    const table = String(shown?.['Create Table']).replace(/ AUTO_INCREMENT=\d+/, '');
    content[name] = { table, rows: await db.runRows(`SELECT * FROM ${db.collection(name)}`) };
  }
  return content;
}

it('is the same as one that went through all migrations, after the installation was used', async () => {
  // Calls, jobs and log entries stand in the tables that it is made after.
  await makeApp(test, 'quillfell-hiker');
  const { servers } = test.service.parts;
  const copied = newDatabase('copied');
  const migrated = newDatabase('migrated');
  await createEnvironmentDatabase(servers, copied);
  await migrateEnvironment(migrated);
  const content = await contentOf(copied);
  expect(Object.keys(content).length).toBeGreaterThan(80);
  expect(content).toEqual(await contentOf(migrated));
});

it('goes through the migrations where another version has migrated the installation', async () => {
  const { servers } = test.service.parts;
  const { installation } = servers;
  const later = Date.now() + 1e9;
  await installation.run(`INSERT INTO ${installation.collection('_migrations')} (hash, created_at) VALUES ('later', ${later})`);
  await installation.run(`CREATE TABLE ${installation.collection('_ofLater')} (id INT)`);
  const db = newDatabase('between');
  await createEnvironmentDatabase(servers, db);
  const content = await contentOf(db);
  expect(content).not.toHaveProperty('_ofLater');
  expect(content).toHaveProperty('_requests');
  await installation.run(`DELETE FROM ${installation.collection('_migrations')} WHERE hash = 'later'`);
  await installation.run(`DROP TABLE ${installation.collection('_ofLater')}`);
});
