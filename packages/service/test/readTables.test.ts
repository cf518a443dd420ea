/** Tables as they are read for backups and moves, while collections change. */
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { type Database, openDatabase } from '../src/platform/database/connection.js';
import { readTables } from '../src/setup/backups/structureDdl.js';
import { TableReader, TablesChanged } from '../src/setup/backups/threads/tableReader.js';
import { PASSING } from '../src/setup/moves/shapes.js';

const NAME = 'read_tables';
let database: Database;
let reader: TableReader;

beforeAll(async () => {
  database = openDatabase(inject('databaseUrl'), { connections: 1 });
  await database.run(`CREATE OR REPLACE DATABASE ${NAME}`);
  await database.run(
    `CREATE TABLE ${NAME}.huts (id VARCHAR(64) PRIMARY KEY, \`odd \`\` name\` INT, beds INT, twice INT AS (beds * 2) STORED COMMENT 'a\n  \`comment\` b')`,
  );
  reader = new TableReader(inject('databaseUrl'), PASSING, 'digests');
  await reader.begin();
});
afterAll(async () => {
  await reader.close();
  await database.run(`DROP DATABASE ${NAME}`);
  await database.close();
});

it('have the columns that are stored, by whatever name', async () => {
  const [huts] = await readTables(reader, NAME);
  expect(huts).toMatchObject({ name: 'huts', key: ['id'], collection: true });
  expect(huts?.columns.map(({ name }) => name)).toEqual(['id', 'odd ` name', 'beds']);
});

it('are read from the start again where a column was added between the questions', async () => {
  const between = {
    query: async (sql: string, values: unknown[]) => {
      if (sql.startsWith('SHOW CREATE')) await database.run(`ALTER TABLE ${NAME}.huts ADD COLUMN height INT`);
      return reader.query(sql, values);
    },
  };
  await expect(readTables(between as TableReader, NAME)).rejects.toBeInstanceOf(TablesChanged);
});
