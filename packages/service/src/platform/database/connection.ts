/** The connection pool, with the time each call spends in the database and the bytes it reads from there. */
import { AsyncLocalStorage } from 'node:async_hooks';
import type { Duplex } from 'node:stream';
import { drizzle, type MySql2Database } from 'drizzle-orm/mysql2';
import mysql, { type Pool, type PoolConnection, type ResultSetHeader, type RowDataPacket } from 'mysql2/promise';

/** What one call has cost in the database so far. */
export type DatabaseCost = {
  databaseUs: number;
  statements: number;
  /** Told how many bytes the answer of a statement has by now, while it comes in; throws to stop it. */
  read?: (bytes: number) => void;
  /** Told how many bytes the call's answer has become, while it is put together; throws to stop it. */
  answer?: (bytes: number) => void;
};
/** The call that the running code works for. */
export const currentCost = new AsyncLocalStorage<DatabaseCost>();

/** Runs work that outlives the call it was begun by, and so is not to be counted as its cost. */
export const apart = <T>(work: () => T): T => currentCost.run(undefined as unknown as DatabaseCost, work);

/** Where statements go: the pool, or one transaction. */
export type Statements = {
  /** Runs a prepared statement that answers rows. */
  rows<T = RowDataPacket>(sql: string, values?: unknown[]): Promise<T[]>;
  /** Runs a prepared statement that changes something. */
  change(sql: string, values?: unknown[]): Promise<ResultSetHeader>;
  /** Runs a statement without preparing it: schema changes, and inserts of many rows with `VALUES ?`. */
  run(sql: string, values?: unknown[]): Promise<ResultSetHeader>;
  /** The same for statements that answer rows, such as `IN (?)` over a list of any length. */
  runRows<T = RowDataPacket>(sql: string, values?: unknown[]): Promise<T[]>;
};

export type Database = Statements & {
  /** Name of the system database; those of environments begin with it. */
  name: string;
  orm: MySql2Database;
  /** Runs `work` as one transaction; again, when MariaDB ends it to undo a deadlock. */
  transaction<T>(work: (statements: Statements) => Promise<T>): Promise<T>;
  /** Holds one connection for the length of `work`. @param statementS what a statement on it may take, where that is not as usual; 0 is for ever */
  withConnection<T>(work: (connection: PoolConnection) => Promise<T>, statementS?: number): Promise<T>;
  /** A connection of its own that is in another database, for the length of `work`. */
  inDatabase<T>(name: string, work: (connection: mysql.Connection) => Promise<T>): Promise<T>;
  close(): Promise<void>;
};

/** What a statement of the pool may take; work that needs more says so. */
const STATEMENT_S = 30;

async function timed<T>(work: Promise<T>): Promise<T> {
  const cost = currentCost.getStore();
  if (!cost) return work;
  const started = process.hrtime.bigint();
  try {
    return await work;
  } finally {
    cost.databaseUs += Number(process.hrtime.bigint() - started) / 1000;
    cost.statements++;
  }
}

/** mysql2's connection below its promises. */
type Raw = { stream: Duplex; release(): void } & Record<'execute' | 'query', (sql: unknown, values: unknown, done: Done) => Ended>;
type Done = (error: Error | null, rows: unknown, fields: unknown) => void;
type Ended = { once(event: 'end', ended: () => void): unknown };

/** Counts what comes in over one connection for the statement that runs on it, and cuts it off when that is too much. */
class Meter {
  #bytes = 0;
  #read: DatabaseCost['read'];
  /** Why the running statement was cut off. */
  #stopped: unknown = null;

  constructor(stream: Duplex) {
    stream.on('data', (chunk: Buffer) => {
      if (!this.#read) return;
      this.#bytes += chunk.length;
      try {
        this.#read(this.#bytes);
      } catch (error) {
        this.#read = undefined;
        this.#stopped = error;
        stream.destroy(error as Error);
      }
    });
  }

  begin(read: DatabaseCost['read']): void {
    this.#bytes = 0;
    this.#stopped = null;
    this.#read = read;
  }

  /** @returns why the statement was cut off, or null */
  end(): unknown {
    this.#read = undefined;
    return this.#stopped;
  }
}

const meters = new WeakMap<object, Meter>();
function meterOf(raw: Raw): Meter {
  let meter = meters.get(raw);
  if (!meter) meters.set(raw, (meter = new Meter(raw.stream)));
  return meter;
}

type Run = (sql: string, values: unknown[]) => Promise<unknown>;
type How = 'execute' | 'query';

/** Runs statements each on a connection of its own out of the pool. */
function onPool(pool: Pool, how: How): Run {
  const below = (pool as unknown as { pool: { getConnection(got: (error: Error | null, raw: Raw) => void): void } }).pool;
  return (sql, values) => {
    const read = currentCost.getStore()?.read;
    return new Promise((resolve, reject) => {
      below.getConnection((error, raw) => {
        if (error) return reject(error);
        const meter = meterOf(raw);
        meter.begin(read);
        const run = (by: How) =>
          raw[by](sql, values, (failed, rows, fields) => {
            // The server is full of statements prepared by others: this one goes as text.
            if (by === 'execute' && isFullOfStatements(failed)) return void run('query');
            const stopped = meter.end();
            raw.release();
            if (failed) reject(stopped ?? failed);
            else resolve([rows, fields]);
          });
        run(how);
      });
    });
  };
}

/** Runs statements on one connection, one after another. */
function onConnection(connection: PoolConnection, how: How): Run {
  const run = { execute: connection.execute.bind(connection), query: connection.query.bind(connection) } as Record<How, Run>;
  const meter = meterOf(connection.connection as unknown as Raw);
  return async (sql, values) => {
    meter.begin(currentCost.getStore()?.read);
    try {
      return await run[how](sql, values);
    } catch (error) {
      if (how === 'execute' && isFullOfStatements(error)) return await run.query(sql, values);
      throw meter.end() ?? error;
    } finally {
      meter.end();
    }
  };
}

const isFullOfStatements = (error: unknown) => (error as { code?: string } | null)?.code === 'ER_MAX_PREPARED_STMT_COUNT_REACHED';

function statementsOn(prepared: Run, plain: Run): Statements {
  const first = async (work: Promise<unknown>) => ((await work) as [unknown])[0];
  const execute = (sql: string, values: unknown[] = []) => first(timed(prepared(sql, values)));
  const query = (sql: string, values: unknown[] = []) => first(timed(plain(sql, values)));
  return { rows: execute, change: execute, run: query, runRows: query } as Statements;
}

const MAX_ATTEMPTS = 4;

async function inTransaction<T>(connection: PoolConnection, work: (statements: Statements) => Promise<T>): Promise<T> {
  await connection.query('START TRANSACTION');
  try {
    const result = await work(statementsOn(onConnection(connection, 'execute'), onConnection(connection, 'query')));
    await connection.query('COMMIT');
    return result;
  } catch (error) {
    await connection.query('ROLLBACK').catch(() => connection.destroy());
    throw error;
  }
}

/**
 * Opens a pool to the system database of the address, which must exist.
 * @param statements how many prepared statements the pool may keep on the server, over all its connections
 */
export function openDatabase(url: string, connections = 20, statements = 4_000): Database {
  const settings = {
    uri: url.replace(/^mariadb:/, 'mysql:'),
    timezone: 'Z',
    charset: 'utf8mb4_bin',
    connectTimeout: 4000,
    supportBigNumbers: true,
    dateStrings: ['DATE' as const],
    // The caller's stack would be taken with every statement, for the sake of the few that fail; errors tell their statement.
    trace: false,
  };
  const pool = mysql.createPool({
    ...settings,
    connectionLimit: connections,
    maxIdle: connections,
    idleTimeout: 60_000,
    maxPreparedStatements: Math.max(10, Math.floor(statements / connections)),
  });
  // First on each connection, before whoever waits for it.
  pool.pool.on('connection', (raw) => raw.query(`SET SESSION max_statement_time = ${STATEMENT_S}`));
  const pooled = statementsOn(onPool(pool, 'execute'), onPool(pool, 'query'));
  const plain = onPool(pool, 'query');
  // What the ORM asks counts as well.
  pool.query = ((sql: string, values: unknown[]) => timed(plain(sql, values))) as typeof pool.query;
  const withConnection: Database['withConnection'] = async (work, statementS) => {
    const connection = await pool.getConnection();
    const limit = (seconds: number) => connection.query(`SET SESSION max_statement_time = ${seconds}`);
    try {
      if (statementS !== undefined) await limit(statementS);
      return await work(connection);
    } finally {
      // A connection that cannot be put back as it was ends.
      if (statementS !== undefined) await limit(STATEMENT_S).catch(() => connection.destroy());
      connection.release();
    }
  };
  return {
    name: decodeURIComponent(new URL(url).pathname.slice(1)) || 'orchard',
    orm: drizzle(pool),
    ...pooled,
    transaction: async (work) => {
      for (let attempt = 1; ; attempt++) {
        try {
          return await withConnection((connection) => inTransaction(connection, work));
        } catch (error) {
          if (!isDeadlock(error) || attempt === MAX_ATTEMPTS) throw error;
        }
      }
    },
    withConnection,
    inDatabase: async (name, work) => {
      const connection = await mysql.createConnection({ ...settings, database: name });
      try {
        return await work(connection);
      } finally {
        await connection.end().catch(() => connection.destroy());
      }
    },
    close: () => pool.end(),
  };
}

/** Codes by which mysql2 and Node say that the server is away, not that the statement is wrong. */
const AWAY = new Set([
  'ECONNREFUSED',
  'ECONNRESET',
  'EPIPE',
  'ETIMEDOUT',
  'ENOENT',
  'EHOSTUNREACH',
  'PROTOCOL_CONNECTION_LOST',
  'PROTOCOL_ENQUEUE_AFTER_FATAL_ERROR',
  'ER_SERVER_SHUTDOWN',
  'ER_CON_COUNT_ERROR',
  'ER_CONNECTION_KILLED',
  'ER_NORMAL_SHUTDOWN',
  'ER_QUERY_INTERRUPTED',
]);

/** Whether an error means that the database is away; drizzle wraps the driver's error as its cause. */
export function isDatabaseAway(error: unknown): boolean {
  for (let at = error as { code?: string; message?: string; cause?: unknown } | undefined; at; at = at.cause as typeof at) {
    if (at.code && AWAY.has(at.code)) return true;
    if (at.message?.includes('closed state')) return true;
  }
  return false;
}

/** Errors of MariaDB's own that mysql2 has no name for. */
const NAMELESS: Record<number, string> = { 1969: 'ER_STATEMENT_TIMEOUT', 4025: 'ER_CONSTRAINT_FAILED' };
const codeOf = (error: unknown): string | undefined => {
  const { code, errno, cause } = (error ?? {}) as { code?: string; errno?: number; cause?: unknown };
  return code ?? NAMELESS[errno ?? 0] ?? (cause ? codeOf(cause) : undefined);
};
/** Whether MariaDB ended a statement for the sake of another one; it can be run again. */
export const isDeadlock = (error: unknown) => ['ER_LOCK_DEADLOCK', 'ER_LOCK_WAIT_TIMEOUT', 'ER_CHECKREAD'].includes(codeOf(error) ?? '');
/** Whether a write leads to, or leaves behind, a reference to nothing. */
export const isReferenceError = (error: unknown): 'missing' | 'used' | null =>
  (
    ({
      ER_NO_REFERENCED_ROW_2: 'missing',
      ER_NO_REFERENCED_ROW: 'missing',
      ER_ROW_IS_REFERENCED_2: 'used',
      ER_ROW_IS_REFERENCED: 'used',
    }) as const
  )[codeOf(error) as 'ER_ROW_IS_REFERENCED'] ?? null;
/** Whether a statement names a column that is not there: its table was changed meanwhile. */
export const isUnknownColumn = (error: unknown): boolean =>
  ['ER_BAD_FIELD_ERROR', 'ER_NO_SUCH_TABLE', 'ER_KEY_COLUMN_DOES_NOT_EXITS'].includes(codeOf(error) ?? '');
/** Whether MariaDB ended a statement because it took too long. */
export const isTooSlow = (error: unknown): boolean => codeOf(error) === 'ER_STATEMENT_TIMEOUT';
/** Whether the database or table of a statement is gone: its environment was deleted meanwhile. */
export const isGone = (error: unknown): boolean =>
  ['ER_BAD_DB_ERROR', 'ER_NO_SUCH_TABLE', 'ER_DBACCESS_DENIED_ERROR'].includes(codeOf(error) ?? '');
/** Whether a value broke a check of its column, such as that of JSON. */
export const isBrokenCheck = (error: unknown): boolean =>
  ['ER_CONSTRAINT_FAILED', 'ER_DATA_TOO_LONG', 'ER_TRUNCATED_WRONG_VALUE_FOR_FIELD'].includes(codeOf(error) ?? '');
/** Whether arithmetic in a statement left the range of its type. */
export const isOutOfRange = (error: unknown): boolean => codeOf(error) === 'ER_DATA_OUT_OF_RANGE';
/** MariaDB's own words for an error, wherever it is wrapped. */
export const messageOf = (error: unknown): string => {
  const { message = '', cause } = (error ?? {}) as { message?: string; cause?: unknown };
  return cause ? messageOf(cause) : message;
};

/** Whether an error is MariaDB's «duplicate entry» for a key. */
export function isDuplicate(error: unknown): boolean {
  const { code, cause } = error as { code?: string; cause?: unknown };
  return code === 'ER_DUP_ENTRY' || (cause !== undefined && isDuplicate(cause));
}
