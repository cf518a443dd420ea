/** Prepared statements of a table that gets a trigger while they are in use. */
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { type Database, openDatabase } from '../src/platform/database/connection.js';
import { eventually } from './support.js';

const NAME = 'prepared_and_triggers';
const TABLE = `${NAME}.huts`;
const STATEMENT = `UPDATE ${TABLE} SET bunks = bunks + ?`;
/** One connection, so that a statement that was prepared is the one that runs. */
let database: Database;
let another: Database;

beforeAll(async () => {
  [database, another] = [0, 1].map(() => openDatabase(inject('databaseUrl'), { connections: 1 })) as [Database, Database];
});
afterAll(async () => {
  await another.run(`DROP DATABASE ${NAME}`);
  await Promise.all([database.close(), another.close()]);
});

/** MariaDB takes the trigger for older than the statement: it waited for the transaction that prepared it. Only a table that has triggers is compared. */
async function prepareWhileTriggerWaits(notes: string): Promise<void> {
  await another.run(`CREATE OR REPLACE DATABASE ${NAME}`);
  await another.run(`CREATE TABLE ${TABLE} (id INT PRIMARY KEY, bunks INT)`);
  await another.run(`INSERT INTO ${TABLE} VALUES (1, 0)`);
  await another.run(`CREATE TABLE ${NAME}.notes (what VARCHAR(20))`);
  await another.run(`CREATE TRIGGER ${TABLE}_gone AFTER DELETE ON ${TABLE} FOR EACH ROW INSERT INTO ${NAME}.notes VALUES ('gone')`);
  const { made } = await database.transaction(async (on) => {
    await on.run(`SELECT * FROM ${TABLE} FOR UPDATE`);
    const made = another.run(
      `CREATE TRIGGER ${TABLE}_noted AFTER UPDATE ON ${TABLE} FOR EACH ROW INSERT INTO ${notes} VALUES ('a change')`,
    );
    await eventually(async () => {
      const running = await on.runRows<{ State: string }>('SHOW PROCESSLIST');
      return running.some(({ State }) => State === 'Waiting for table metadata lock');
    });
    await on.change(STATEMENT, [1]);
    return { made };
  });
  await made;
}
const noted = async () => Number((await database.rows<{ count: number }>(`SELECT COUNT(*) AS count FROM ${NAME}.notes`))[0]?.count);

describe('a statement that was prepared while a trigger was about to be made', () => {
  it('runs the trigger', async () => {
    await prepareWhileTriggerWaits(`${NAME}.notes`);
    await database.change(STATEMENT, [1]);
    await database.change(STATEMENT, [1]);
    expect(await noted()).toBe(2);
  });

  it('runs it in a transaction, which goes on', async () => {
    await prepareWhileTriggerWaits(`${NAME}.notes`);
    await database.transaction(async (on) => {
      await on.run(`INSERT INTO ${TABLE} VALUES (2, 0)`);
      await on.change(STATEMENT, [1]);
    });
    expect(await noted()).toBe(2);
    expect(await database.rows(`SELECT bunks FROM ${TABLE} ORDER BY id`)).toEqual([{ bunks: 2 }, { bunks: 1 }]);
  });

  it('fails by the name of a table that the trigger needs and that is not there', async () => {
    await prepareWhileTriggerWaits(`${NAME}.gone`);
    await expect(database.change(STATEMENT, [1])).rejects.toThrow(`${NAME}.gone' doesn't exist`);
  });
});
