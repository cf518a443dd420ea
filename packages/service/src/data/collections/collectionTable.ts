/** The tables of collections, and the triggers that write the change feed in the transaction of each change. */
import { Problem } from '@orchard/contract';
import type { Fields } from '@orchard/core';
import type { PoolConnection, RowDataPacket } from 'mysql2/promise';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { columnSql, ID_TYPE, imageSql } from './columns.js';
import { endedRecordTable } from './tables.js';
import { feedTable } from '../../platform/live/tables.js';

const SYSTEM_COLUMNS = `\`id\` ${ID_TYPE} NOT NULL PRIMARY KEY,
  \`createdAt\` DATETIME(3) NOT NULL, \`updatedAt\` DATETIME(3) NOT NULL, \`version\` INT NOT NULL,
  \`ownerId\` ${ID_TYPE} NULL, \`_by\` VARCHAR(300) NOT NULL DEFAULT '', INDEX \`_owner\` (\`ownerId\`)`;

/** Makes a collection's table; what is there of an interrupted attempt stays. @throws {Problem} already-exists, for a name that differs only by case */
export async function createTable(connection: PoolConnection, db: EnvironmentDatabase, name: string, fields: Fields): Promise<void> {
  const [taken] = await connection.query<RowDataPacket[]>(
    'SELECT TABLE_NAME AS name FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND LOWER(TABLE_NAME) = LOWER(?)',
    [db.name, name],
  );
  const twin = taken[0]?.name;
  if (twin && twin !== name)
    throw new Problem('already-exists', `The collection \`${name}\` differs from \`${twin}\` only by case. Use \`${twin}\`.`);
  const columns = [...fields].map(([field, of]) => columnSql(field, of));
  await connection.query(
    `CREATE TABLE IF NOT EXISTS ${db.collection(name)} (${SYSTEM_COLUMNS}) DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin`,
  );
  if (columns.length > 0)
    await connection.query(
      `ALTER TABLE ${db.collection(name)} ${columns.map((column) => `ADD COLUMN IF NOT EXISTS ${column}`).join(', ')}`,
    );
  await writeTriggers(connection, db, name, fields);
}

/** Writes the triggers for the fields as they are now. While `@orchard_quiet` is 1, updates leave no entry. */
export async function writeTriggers(connection: PoolConnection, db: EnvironmentDatabase, name: string, fields: Fields): Promise<void> {
  const feed = (action: string, row: 'NEW' | 'OLD', version: string, at: string, by: string, before: string, after: string) =>
    `INSERT INTO ${db.of(feedTable)} (collection, recordId, action, version, at, \`by\`, \`before\`, \`after\`)
     VALUES ('${name}', ${row}.id, '${action}', ${version}, ${at}, ${by}, ${before}, ${after})`;
  const [old, fresh] = [imageSql('OLD', fields), imageSql('NEW', fields)];
  const update = feed('update', 'NEW', 'NEW.version', 'NEW.updatedAt', 'NEW._by', old, fresh);
  const triggers = [
    ['INSERT', feed('create', 'NEW', 'NEW.version', 'NEW.updatedAt', 'NEW._by', 'NULL', fresh)],
    ['UPDATE', `BEGIN IF COALESCE(@orchard_quiet, 0) = 0 THEN ${update}; END IF; END`],
    [
      'DELETE',
      `BEGIN ${feed('delete', 'OLD', 'OLD.version + 1', 'UTC_TIMESTAMP(3)', "COALESCE(@orchard_by, '')", old, 'NULL')};
       INSERT INTO ${db.of(endedRecordTable)} (collection, recordId, version) VALUES ('${name}', OLD.id, OLD.version + 1) ON DUPLICATE KEY UPDATE version = VALUES(version); END`,
    ],
  ];
  // A trigger's name has at most 64 letters, like a table's, and lives beside the triggers of all other tables.
  const [[{ number }]] = (await connection.query<RowDataPacket[]>('SELECT CRC32(?) AS number', [name])) as unknown as [
    [{ number: number }],
  ];
  for (const [event, body] of triggers) {
    await connection.query(
      `CREATE OR REPLACE TRIGGER ${db.collection(`_${event?.toLowerCase()}_${number}_${name.slice(0, 40)}`)} AFTER ${event} ON ${db.collection(name)} FOR EACH ROW ${body}`,
    );
  }
}
