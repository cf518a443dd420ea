/**
 * A thread that fills empty tables with the rows of a backup: each table by one statement and in one transaction. Where the server
 * takes rows as a stream (`local_infile`), MariaDB sorts them and writes pages in order, also of indexes; elsewhere they are
 * inserted, many at a time.
 */
import { Readable } from 'node:stream';
import mysql, { type ResultSetHeader, type RowDataPacket } from 'mysql2/promise';
import { parentPort, workerData } from 'node:worker_threads';
import { gunzipSync } from 'node:zlib';
import { connectionSettings } from '../../../platform/database/nodes.js';
import { BackupKey, sha256 } from '../sealing.js';
import { stepBehind } from './behind.js';
import type { FromLoader, ReadColumn, ToLoader } from './messages.js';

/** Characters of one statement; a server takes 16 MB at least. */
const STATEMENT = 1_000_000;
/** Bytes that wait to be sent. */
const WAITING = 2_000_000;
const PIECE = 256 * 1024;

const { url, key: hex, behind } = workerData as { url: string; key: string; behind: boolean };
const key = new BackupKey(hex);
if (behind) stepBehind();

class Damaged extends Error {}
type Value = string | number | null;
/** Fills one table. */
type Filling = { take: (text: string) => Promise<void>; end: () => Promise<void> };

const opened = open();
let filling: Filling | null = null;

async function open() {
  const connection = await mysql.createConnection(connectionSettings(url));
  await connection.query(
    "SET SESSION max_statement_time = 0, net_read_timeout = 3600, unique_checks = 0, foreign_key_checks = 0, sql_mode = CONCAT(@@sql_mode, ',NO_AUTO_VALUE_ON_ZERO')",
  );
  const [[row]] = (await connection.query<RowDataPacket[]>('SELECT @@local_infile AS streams')) as unknown as [[{ streams: number }]];
  return { connection, streams: Number(row.streams) === 1 };
}

async function take(message: ToLoader): Promise<void> {
  const { connection, streams } = await opened;
  if (message.kind === 'table') filling = await (streams ? streamInto : insertInto)(connection, message.into, message.columns);
  else if (message.kind === 'part') await filling?.take(linesOf(message));
  else if (message.kind === 'lines') await filling?.take(Buffer.from(message.content).toString());
  else if (message.kind === 'end') await filling?.end();
  else {
    await connection.end();
    parentPort?.close();
    return;
  }
  parentPort?.postMessage({ kind: 'ready' } satisfies FromLoader);
}

function linesOf({ part, packed }: Extract<ToLoader, { kind: 'part' }>): string {
  let content: Buffer;
  try {
    content = gunzipSync(key.decrypt(packed));
  } catch {
    throw new Damaged(part.object);
  }
  if (sha256(content) !== part.sha256) throw new Damaged(part.object);
  return content.toString();
}

function* rowsOf(text: string): Generator<Value[]> {
  for (let from = 0; from < text.length; ) {
    const end = text.indexOf('\n', from);
    yield JSON.parse(text.slice(from, end)) as Value[];
    from = end + 1;
  }
}

const named = (columns: readonly ReadColumn[]): string => columns.map(({ name }) => `\`${name}\``).join(', ');

/** What has a meaning in a line of LOAD DATA. */
const SPECIAL = /[\\\t\n\r\0]/;
const ALL_SPECIAL = /[\\\t\n\r\0]/g;
const ESCAPES: Record<string, string> = { '\\': '\\\\', '\t': '\\t', '\n': '\\n', '\r': '\\r', '\0': '\\0' };
const cellOf = (value: Value): string => {
  if (value === null) return '\\N';
  if (typeof value === 'number') return String(value);
  return SPECIAL.test(value) ? value.replace(ALL_SPECIAL, (one) => ESCAPES[one] as string) : value;
};

async function streamInto(connection: mysql.Connection, into: string, columns: readonly ReadColumn[]): Promise<Filling> {
  let onRoom: (() => void) | null = null;
  const stream = new Readable({
    highWaterMark: WAITING,
    read: () => {
      onRoom?.();
      onRoom = null;
    },
  });
  const targets = columns.map(({ name, form }, i) => (form === 'json' ? `\`${name}\`` : `@v${i}`));
  const sets = columns.flatMap(({ name, form }, i) =>
    form === 'json' ? [] : [`\`${name}\` = ${form === 'position' ? 'UNHEX' : 'FROM_BASE64'}(@v${i})`],
  );
  const sql = `LOAD DATA LOCAL INFILE 'rows' INTO TABLE ${into} CHARACTER SET utf8mb4 FIELDS TERMINATED BY '\\t' ESCAPED BY '\\\\' LINES TERMINATED BY '\\n' (${targets.join(', ')})${sets.length > 0 ? ` SET ${sets.join(', ')}` : ''}`;
  const loading = connection.query<ResultSetHeader>({ sql, infileStreamFactory: () => stream });
  let failure: Error | null = null;
  loading.catch((error: Error) => {
    failure = error;
    onRoom?.();
  });
  let rows = 0;
  return {
    take: async (text) => {
      let lines = '';
      const send = async () => {
        const content = Buffer.from(lines);
        lines = '';
        for (let at = 0; at < content.length; at += PIECE) {
          if (failure) throw failure;
          if (!stream.push(content.subarray(at, at + PIECE)))
            await new Promise<void>((resolve) => {
              onRoom = resolve;
            });
        }
      };
      for (const row of rowsOf(text)) {
        lines += `${row.map(cellOf).join('\t')}\n`;
        rows++;
        if (lines.length > STATEMENT) await send();
      }
      if (lines) await send();
    },
    end: async () => {
      stream.push(null);
      const [done] = await loading;
      // LOCAL turns errors into warnings: nothing may have been left out or changed.
      if (done.affectedRows !== rows || done.warningStatus > 0)
        throw new Error(`${into} took ${done.affectedRows} of ${rows} rows, with ${done.warningStatus} warnings`);
    },
  };
}

async function insertInto(connection: mysql.Connection, into: string, columns: readonly ReadColumn[]): Promise<Filling> {
  const head = `INSERT INTO ${into} (${named(columns)}) VALUES `;
  const literalOf = (value: Value, i: number): string => {
    if (value === null) return 'NULL';
    if (typeof value === 'number') return String(value);
    if (columns[i]?.form === 'base64') return `X'${Buffer.from(value, 'base64').toString('hex')}'`;
    if (columns[i]?.form === 'position') return `X'${value}'`;
    // Without backslash escapes, a quote is doubled and everything else stands for itself.
    return `'${value.includes("'") ? value.replaceAll("'", "''") : value}'`;
  };
  await connection.query("SET SESSION sql_mode = CONCAT(@@sql_mode, ',NO_BACKSLASH_ESCAPES')");
  await connection.query('START TRANSACTION');
  /** The statement in progress; the next one is made while it runs. */
  let last: Promise<unknown> = Promise.resolve();
  const send = async (values: readonly string[]) => {
    await last;
    last = connection.query(`${head}(${values.join('),(')})`);
    last.catch(() => undefined);
  };
  return {
    take: async (text) => {
      let [values, length]: [string[], number] = [[], 0];
      for (const row of rowsOf(text)) {
        const literals = row.map(literalOf).join(',');
        values.push(literals);
        length += literals.length;
        if (length < STATEMENT) continue;
        await send(values);
        [values, length] = [[], 0];
      }
      if (values.length > 0) await send(values);
    },
    end: async () => {
      await last;
      await connection.query('COMMIT');
    },
  };
}

let order: Promise<void> = Promise.resolve();
parentPort?.on('message', (message: ToLoader) => {
  order = order
    .then(() => take(message))
    .catch((error: Error) => {
      parentPort?.postMessage({ kind: 'failed', text: error.message, damaged: error instanceof Damaged } satisfies FromLoader);
    });
});
