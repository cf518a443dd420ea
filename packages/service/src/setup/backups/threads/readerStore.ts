/**
 * A thread that reads tables as they were at one moment, and cuts their rows into parts. One transaction sees that moment
 * whatever is written meanwhile, and holds no table once it is through with it.
 */
import { endsPart } from '@orchard/core';
import mysql from 'mysql2';
import { type MessagePort, parentPort, workerData } from 'node:worker_threads';
import { connectionSettings } from '../../../platform/database/nodes.js';
import { stepBehind } from './behind.js';
import type { FromReader, ReadColumn, ReadTable, ToReader } from './messages.js';

const { url, packer, room } = workerData as { url: string; packer: MessagePort; room: Int32Array };
const tell = (message: FromReader) => parentPort?.postMessage(message);
stepBehind();

const connection = mysql.createConnection({
  ...connectionSettings(url),
  // Values as the database writes them: exact, and the same again from what is restored.
  dateStrings: true,
  supportBigNumbers: true,
  bigNumberStrings: true,
  jsonStrings: true,
  rowsAsArray: true,
});
connection.on('error', () => undefined);
const run = <T = unknown[][]>(sql: string, values: unknown[] = []): Promise<T> =>
  new Promise((resolve, reject) => connection.query(sql, values, (error, rows) => (error ? reject(error) : resolve(rows as T))));

/** Waits until a part may be on its way. The thread has nothing else to do: meanwhile the server waits too. */
function takeRoom(): void {
  while (Atomics.load(room, 0) === 0) Atomics.wait(room, 0, 0);
  Atomics.sub(room, 0, 1);
}

async function begin(): Promise<void> {
  await run('SET SESSION max_statement_time = 0, SESSION net_write_timeout = 3600');
  await run('SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ');
  await run('START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY');
  const [row] = await run<[[string]]>('SELECT UTC_TIMESTAMP(3)');
  tell({ kind: 'began', at: row[0] });
}

/** Rows of one table, in the order of its primary key. */
async function read(table: ReadTable): Promise<void> {
  await run('SAVEPOINT before_table');
  const encode = table.columns.map((column, i) => (column.form === 'base64' ? i : -1)).filter((i) => i >= 0);
  const order = table.key.length > 0 ? ` FORCE INDEX (PRIMARY) ORDER BY ${table.key.map((name) => `\`${name}\``).join(', ')}` : '';
  const keyAt = Math.max(
    0,
    table.columns.findIndex(({ name }) => name === table.key[0]),
  );
  const sql = `SELECT ${table.columns.map(selectOf).join(', ')} FROM ${table.from}${order}`;
  let lines: string[] = [];
  let [length, rows, all] = [0, 0, 0];
  const send = () => {
    const content = Buffer.from(lines.join(''));
    const bytes = new Uint8Array(content.buffer, content.byteOffset, content.byteLength);
    // A small buffer shares its memory with others, and cannot be handed over.
    const own = bytes.byteLength === bytes.buffer.byteLength ? bytes : bytes.slice();
    packer.postMessage({ table: table.name, rows, content: own }, [own.buffer as ArrayBuffer]);
    [lines, length, rows] = [[], 0, 0];
    takeRoom();
  };
  await new Promise<void>((resolve, reject) => {
    connection
      .query({ sql, rowsAsArray: true })
      .on('error', reject)
      .on('result', (row: unknown[]) => {
        for (const i of encode) if (row[i] !== null) row[i] = (row[i] as Buffer).toString('base64');
        const line = `${JSON.stringify(row)}\n`;
        lines.push(line);
        length += line.length;
        rows++;
        all++;
        if (endsPart(String(row[keyAt]), length)) send();
      })
      .on('end', resolve);
  });
  if (rows > 0) send();
  packer.postMessage({ table: table.name, end: all });
  // Tables are held for reading until a transaction ends, or goes back before them.
  await run('ROLLBACK TO SAVEPOINT before_table');
}

const selectOf = ({ name, form }: ReadColumn): string => (form === 'position' ? `HEX(\`${name}\`)` : `\`${name}\``);

parentPort?.on('message', async (message: ToReader) => {
  try {
    if (message.kind === 'begin') await begin();
    else if (message.kind === 'query') tell({ kind: 'rows', id: message.id, rows: await run(message.sql, message.values) });
    else if (message.kind === 'read') await read(message.table);
    else connection.end(() => parentPort?.close());
  } catch (error) {
    const { message: text, errno, code } = error as { message: string; errno?: number; code?: string };
    tell({ kind: 'failed', text, errno: errno ?? 0, code: code ?? '' });
  }
});
