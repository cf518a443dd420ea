import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { type Database, openDatabase } from '../src/platform/database/connection.js';
import { createLog } from '../src/platform/log.js';

let database: Database;
beforeAll(async () => {
  database = openDatabase(inject('databaseUrl'), { connections: 1 });
  await database.run('CREATE TABLE IF NOT EXISTS log_test (id INT PRIMARY KEY, value VARCHAR(4))');
});
afterAll(() => database.close());

it('a statement that fails is logged with its cause, and none of its values', async () => {
  const lines: string[] = [];
  const log = createLog('info', { write: (line) => void lines.push(line) });
  const { sql } = await import('drizzle-orm');
  const secret = 'a-password-hash';
  const failures = [
    () => database.orm.execute(sql`INSERT INTO log_test VALUES (1, ${secret})`),
    () => database.run('INSERT INTO log_test VALUES ?', [[[1, secret]]]),
    () => database.change('INSERT INTO log_test VALUES (1, ?)', [secret]),
  ];
  for (const fail of failures) await fail().catch((err: unknown) => log.error({ err }, 'it failed'));
  log.error({ headers: { authorization: 'Bearer x' }, password: secret, token: secret }, 'named secrets');
  expect(lines).toHaveLength(4);
  expect(lines.slice(0, 3).every((line) => line.includes('ER_DATA_TOO_LONG'))).toBe(true);
  expect(lines.join('')).not.toContain(secret);
  expect(lines.join('')).not.toContain('Bearer x');
});
