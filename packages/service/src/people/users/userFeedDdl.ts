/**
 * Users in the change feed: written by triggers, like those of collections, so that they can be brought back to any moment.
 * No app reads them there. When a user is erased, what the feed knew of them goes too.
 */
import { getTableName } from 'drizzle-orm';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { feedTable, unlessCopying } from '../../platform/live/tables.js';
import { userTable } from './tables.js';

/** By this name users stand in the feed; no collection can have it. */
const USERS = getTableName(userTable);
/** What changes with each visit, and is no change of the account. */
const PASSING = new Set(['lastSeenAt', 'updatedAt']);

/** Makes the triggers for the columns that the table has. */
export async function writeUserTriggers(db: EnvironmentDatabase): Promise<void> {
  const columns = await db.rows<{ name: string; type: string }>(
    'SELECT COLUMN_NAME AS name, DATA_TYPE AS type FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? ORDER BY ORDINAL_POSITION',
    [db.name, USERS],
  );
  // Texts of several collations cannot stand in one document.
  const value = (row: 'NEW' | 'OLD', { name, type }: { name: string; type: string }) =>
    `'${name}', ${row}.\`${name}\`${type === 'varchar' ? ' COLLATE utf8mb4_bin' : ''}`;
  const image = (row: 'NEW' | 'OLD') =>
    `JSON_OBJECT(${columns
      .filter(({ name }) => name !== 'id')
      .map((column) => value(row, column))
      .join(', ')})`;
  const entry = (action: string, row: 'NEW' | 'OLD', before: string, after: string) =>
    `INSERT INTO ${db.of(feedTable)} (collection, recordId, action, version, at, \`by\`, \`before\`, \`after\`)
     VALUES ('${USERS}', ${row}.id, '${action}', 0, UTC_TIMESTAMP(3), COALESCE(@orchard_by, ''), ${before}, ${after})`;
  const isChange = columns
    .filter(({ name }) => !PASSING.has(name))
    .map(({ name }) => `NOT (NEW.\`${name}\` <=> OLD.\`${name}\`)`)
    .join(' OR ');
  const triggers = {
    insert: unlessCopying(entry('create', 'NEW', 'NULL', image('NEW'))),
    update: unlessCopying(`IF ${isChange} THEN ${entry('update', 'NEW', image('OLD'), image('NEW'))}; END IF`),
    delete: unlessCopying(
      `UPDATE ${db.of(feedTable)} SET \`before\` = NULL, \`after\` = NULL WHERE collection = '${USERS}' AND recordId = OLD.id; ${entry('delete', 'OLD', 'NULL', 'NULL')}`,
    ),
  };
  for (const [event, body] of Object.entries(triggers))
    await db.run(
      `CREATE OR REPLACE TRIGGER ${db.collection(`_users_${event}`)} AFTER ${event.toUpperCase()} ON ${db.of(userTable)} FOR EACH ROW ${body}`,
    );
}
