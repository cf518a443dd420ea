/**
 * How the tables of an environment are made. Read from the database itself, so that it is right whatever the team has made of
 * its collections, and whichever version made the rest. Raw SQL: these are questions about tables, not about rows.
 */
import { grouped } from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { feedTable } from '../../platform/live/tables.js';
import { type TableReader, TablesChanged } from './threads/tableReader.js';
import type { ReadTable } from './threads/messages.js';

/** As `SHOW CREATE TABLE` says it. */
export type TableStructure = { name: string; create: string };
export type ReadableTable = ReadTable & { collection: boolean; bytes: number; create: string };

/** Tables that stand in a database only while the environment moves; they belong to no backup. */
export const PASSING_TABLES: ReadonlySet<string> = new Set(['_moveChanges', '_moveGate']);

const POSITIONS = new Set(['point', 'geometry', 'linestring', 'polygon']);
const BYTES = new Set(['blob', 'tinyblob', 'mediumblob', 'longblob', 'binary', 'varbinary']);

/**
 * The tables of a database as they are at the moment that the reader sees, the largest last.
 * @throws TablesChanged where a table is changed meanwhile: structures are not part of that moment
 */
export async function readTables(reader: TableReader, database: string): Promise<ReadableTable[]> {
  const [tables, columns, keys] = [
    await reader.query<[string, string]>(
      "SELECT TABLE_NAME, DATA_LENGTH FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_TYPE = 'BASE TABLE' ORDER BY DATA_LENGTH, TABLE_NAME",
      [database],
    ),
    await reader.query<[string, string, string, string]>(
      'SELECT TABLE_NAME, COLUMN_NAME, DATA_TYPE, IS_GENERATED FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? ORDER BY TABLE_NAME, ORDINAL_POSITION',
      [database],
    ),
    await reader.query<[string, string]>(
      "SELECT TABLE_NAME, COLUMN_NAME FROM information_schema.STATISTICS WHERE TABLE_SCHEMA = ? AND INDEX_NAME = 'PRIMARY' ORDER BY TABLE_NAME, SEQ_IN_INDEX",
      [database],
    ),
  ];
  const byTable = grouped(columns, ([table]) => table);
  const found: ReadableTable[] = [];
  for (const [name, bytes] of tables) {
    if (PASSING_TABLES.has(name)) continue;
    const [[, create]] = (await reader.query<[string, string]>(`SHOW CREATE TABLE \`${database}\`.\`${name}\``)) as [[string, string]];
    const own = byTable.get(name) ?? [];
    demandSame(name, create, own);
    found.push({
      name,
      create,
      bytes: Number(bytes),
      collection: !name.startsWith('_'),
      from: `\`${database}\`.\`${name}\``,
      columns: own
        .filter(([, , , generated]) => generated === 'NEVER')
        .map(([, column, type]) => ({ name: column, form: POSITIONS.has(type) ? 'position' : BYTES.has(type) ? 'base64' : 'json' })),
      key: keys.filter(([table]) => table === name).map(([, column]) => column),
    });
  }
  return found;
}

/** What was read of its columns must fit how it is made: a column that is added in between would come over without its values. */
function demandSame(name: string, create: string, columns: readonly string[][]): void {
  const made = [...create.matchAll(/^ {2}`((?:[^`]|``)+)` /gm)].map(([, column]) => column?.replaceAll('``', '`'));
  if (made.length !== columns.length || columns.some(([, column], at) => column !== made[at]))
    throw new TablesChanged(`${name} was changed while it was read.`);
}

/** The newest entry of the change feed at that moment. */
export async function newestEntry(reader: TableReader, db: EnvironmentDatabase): Promise<number> {
  const [[entry]] = (await reader.query<[number | null]>(`SELECT MAX(entry) FROM ${db.of(feedTable)}`)) as [[number | null]];
  return Number(entry ?? 0);
}

/** What a table could be made with to read or write elsewhere. */
const ELSEWHERE = /\b(select|union|directory|connection|like|into)\b/i;

/** Whether a structure makes a table and does nothing else, for one that another installation sent. */
export const isPlain = ({ create }: TableStructure): boolean => {
  const words = create.replace(/`[^`]*`|'(?:[^'\\]|''|\\.)*'/g, '');
  return !ELSEWHERE.test(words) && !words.includes(';') && /\) ENGINE=InnoDB\b/.test(words);
};

/** Kinds of indexes that are filled faster once all rows are there. */
const LATE = /^\s*(FULLTEXT|SPATIAL) KEY/;
const CONSTRAINT = /^\s*CONSTRAINT .* FOREIGN KEY/;

/**
 * The statements that make a table, and those that complete it once it is filled.
 * @param into its name in SQL @param scratch without what only counts in its place: references to other tables
 */
export function makingOf({ name, create }: TableStructure, into: string, scratch = false): { make: string; complete: string[] } {
  const lines = create.split('\n');
  const isLate = (line: string) => LATE.test(line);
  const isLeftOut = (line: string) => isLate(line) || (scratch && CONSTRAINT.test(line));
  const bare = (line: string) => line.trim().replace(/,$/, '');
  const inner = lines.slice(1).filter((line) => !isLeftOut(line));
  const end = inner.findIndex((line) => line.startsWith(')'));
  if (end > 0) inner[end - 1] = (inner[end - 1] as string).replace(/,$/, '');
  const head = `CREATE TABLE \`${name}\` (`;
  if (lines[0] !== head) throw new Error(`the structure of ${name} cannot be read`);
  return {
    make: [`CREATE TABLE ${into} (`, ...inner].join('\n'),
    complete: scratch ? [] : lines.filter(isLate).map((line) => `ALTER TABLE ${into} ADD ${bare(line)}`),
  };
}
