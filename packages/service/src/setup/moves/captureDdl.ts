/**
 * Notes which rows of an environment change while it is copied, by triggers on every table, and holds writes at the end. Two
 * tables are made for it in the database that is left, and go with it. Raw SQL: the tables are data.
 */
import type { PoolConnection } from 'mysql2/promise';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { isGone, MOVING } from '../../platform/database/errors.js';
import { PASSING_TABLES } from '../backups/structureDdl.js';

/** `CHANGED`: rows that changed, each by its table and the values of its primary key as JSON. `GATE`: one row, until when writes are held. */
const [CHANGED, GATE] = [...PASSING_TABLES] as [string, string];

/** A lock of a table is waited for a second at a time, so that writes pass in between. */
const LOCK_WAIT_S = 1;
const LOCK_TRIES = 60;
/** How long the gate waits for transactions that have written and not committed. */
const CLOSE_WAIT_S = 2;
/** Writes of an environment that has left stay refused here. */
const FOR_GOOD = '9999-12-31';

type KeyColumn = { name: string; isText: boolean };
type Table = { name: string; key: KeyColumn[] };

/**
 * The primary keys of all tables of a database. Each table of the information schema is asked for this database by a constant:
 * otherwise MariaDB opens the tables of every environment.
 */
async function keysOf(db: EnvironmentDatabase): Promise<Map<string, KeyColumn[]>> {
  const rows = await db.rows<{ table: string; name: string; type: string }>(
    `SELECT c.TABLE_NAME AS \`table\`, c.COLUMN_NAME AS name, c.DATA_TYPE AS type FROM information_schema.COLUMNS c
     JOIN information_schema.STATISTICS s ON s.TABLE_SCHEMA = ? AND s.TABLE_NAME = c.TABLE_NAME AND s.COLUMN_NAME = c.COLUMN_NAME
     WHERE c.TABLE_SCHEMA = ? AND s.INDEX_NAME = 'PRIMARY' ORDER BY c.TABLE_NAME, s.SEQ_IN_INDEX`,
    [db.name, db.name],
  );
  const keys = new Map<string, KeyColumn[]>();
  for (const { table, name, type } of rows) {
    const own = keys.get(table) ?? [];
    own.push({ name, isText: type === 'char' || type === 'varchar' });
    keys.set(table, own);
  }
  return keys;
}

/**
 * Begins to note changes. Only what is read afterwards of these tables is whole together with the notes: one that was made in
 * between is none of them.
 * @param only the tables; without it, all there are
 * @returns the names of those on which changes are noted
 */
export async function capture(db: EnvironmentDatabase, environmentId: string, only?: ReadonlySet<string>): Promise<Set<string>> {
  const tables = [...(await keysOf(db))].flatMap(([name, key]): Table[] =>
    PASSING_TABLES.has(name) || (only && !only.has(name)) ? [] : [{ name, key }],
  );
  await db.run(
    `CREATE TABLE IF NOT EXISTS ${db.collection(CHANGED)} (entry BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY, ofTable VARCHAR(64) NOT NULL, rowKey VARCHAR(2000) NOT NULL) DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin`,
  );
  await db.run(`CREATE TABLE IF NOT EXISTS ${db.collection(GATE)} (id TINYINT NOT NULL PRIMARY KEY, closedUntil DATETIME(3) NULL)`);
  await db.run(`INSERT IGNORE INTO ${db.collection(GATE)} (id, closedUntil) VALUES (1, NULL)`);
  const watched = new Set<string>();
  await db.server.withConnection(async (connection) => {
    await connection.query(`SET SESSION lock_wait_timeout = ${LOCK_WAIT_S}`);
    try {
      for (const table of tables) {
        // One that was dropped meanwhile has nothing to note.
        const isThere = await watch(connection, db, environmentId, table).then(
          () => true,
          (error) => (isGone(error) ? false : Promise.reject(error)),
        );
        if (isThere) watched.add(table.name);
      }
    } finally {
      await connection.query('SET SESSION lock_wait_timeout = DEFAULT').catch(() => connection.destroy());
    }
  }, 60);
  return watched;
}

async function watch(connection: PoolConnection, db: EnvironmentDatabase, environmentId: string, { name, key }: Table): Promise<void> {
  const values = (row: 'NEW' | 'OLD') =>
    `JSON_ARRAY(${key.map((column) => `${row}.\`${column.name}\`${column.isText ? ' COLLATE utf8mb4_bin' : ''}`).join(', ')})`;
  const note = (row: 'NEW' | 'OLD') => `INSERT INTO ${db.collection(CHANGED)} (ofTable, rowKey) VALUES ('${name}', ${values(row)})`;
  const same = key.map((column) => `NEW.\`${column.name}\` <=> OLD.\`${column.name}\``).join(' AND ');
  // The shared lock makes the gate wait for every transaction that has written, and shows what it says now, not what it said
  // when the transaction began.
  const gate = `IF (SELECT closedUntil > UTC_TIMESTAMP(3) FROM ${db.collection(GATE)} WHERE id = 1 LOCK IN SHARE MODE) THEN
      SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = '${MOVING}${environmentId}'; END IF;`;
  const bodies = {
    INSERT: note('NEW'),
    DELETE: note('OLD'),
    UPDATE: `${note('NEW')}; IF NOT (${same}) THEN ${note('OLD')}; END IF`,
  };
  for (const [event, body] of Object.entries(bodies))
    await patiently(() =>
      connection.query(
        `CREATE OR REPLACE TRIGGER ${db.collection(triggerName(event, name))} AFTER ${event} ON ${db.collection(name)} FOR EACH ROW BEGIN ${gate} ${body}; END`,
      ),
    );
}

const triggerName = (event: string, table: string): string => `_move_${event.toLowerCase()}_${table}`.slice(0, 64);

async function patiently(change: () => Promise<unknown>): Promise<void> {
  for (let tries = 1; ; tries++) {
    try {
      await change();
      return;
    } catch (error) {
      if ((error as { code?: string }).code !== 'ER_LOCK_WAIT_TIMEOUT' || tries === LOCK_TRIES) throw error;
    }
  }
}

/** Ends it, and leaves nothing behind. */
export async function release(db: EnvironmentDatabase): Promise<void> {
  const triggers = await db.rows<{ name: string }>(
    "SELECT TRIGGER_NAME AS name FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = ? AND TRIGGER_NAME LIKE '\\\\_move\\\\_%'",
    [db.name],
  );
  await db.server.withConnection(async (connection) => {
    await connection.query(`SET SESSION lock_wait_timeout = ${LOCK_WAIT_S}`);
    try {
      for (const { name } of triggers) await patiently(() => connection.query(`DROP TRIGGER IF EXISTS ${db.collection(name)}`));
      for (const name of PASSING_TABLES) await patiently(() => connection.query(`DROP TABLE IF EXISTS ${db.collection(name)}`));
    } finally {
      await connection.query('SET SESSION lock_wait_timeout = DEFAULT').catch(() => connection.destroy());
    }
  }, 60);
}

/**
 * Holds writes: once it is through, every transaction that had written has ended, and no other writes.
 * @param holdMs after which writes pass by themselves, should nobody open the gate
 * @returns false where a transaction did not end in time; writes go on then
 */
export async function closeGate(db: EnvironmentDatabase, holdMs: number): Promise<boolean> {
  return db.server.withConnection(async (connection: PoolConnection) => {
    await connection.query(`SET SESSION innodb_lock_wait_timeout = ${CLOSE_WAIT_S}`);
    try {
      await connection.query(
        `UPDATE ${db.collection(GATE)} SET closedUntil = UTC_TIMESTAMP(3) + INTERVAL ? * 1000 MICROSECOND WHERE id = 1`,
        [holdMs],
      );
      return true;
    } catch (error) {
      if ((error as { code?: string }).code === 'ER_LOCK_WAIT_TIMEOUT') return false;
      throw error;
    } finally {
      await connection.query('SET SESSION innodb_lock_wait_timeout = DEFAULT').catch(() => connection.destroy());
    }
  }, 30);
}

export const openGate = (db: EnvironmentDatabase): Promise<unknown> =>
  db.run(`UPDATE ${db.collection(GATE)} SET closedUntil = NULL WHERE id = 1`);
export const closeForGood = (db: EnvironmentDatabase): Promise<unknown> =>
  db.run(`UPDATE ${db.collection(GATE)} SET closedUntil = '${FOR_GOOD}' WHERE id = 1`);

export type ChangedRow = { entry: number; table: string; key: string };

/** Some of the changes that are noted. */
export async function someChanges(db: EnvironmentDatabase, most: number): Promise<ChangedRow[]> {
  return db.rows<ChangedRow>(
    `SELECT entry, ofTable AS \`table\`, rowKey AS \`key\` FROM ${db.collection(CHANGED)} ORDER BY entry LIMIT ${most}`,
  );
}

/** One that commits later may have a lower number: each is forgotten by itself. */
export async function forgetChanges(db: EnvironmentDatabase, changes: readonly ChangedRow[]): Promise<void> {
  await db.run(`DELETE FROM ${db.collection(CHANGED)} WHERE entry IN (?)`, [changes.map(({ entry }) => entry)]);
}
