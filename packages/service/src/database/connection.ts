/** The connection pool, with the time each call spends in the database. */
import { AsyncLocalStorage } from 'node:async_hooks';
import { drizzle, type MySql2Database } from 'drizzle-orm/mysql2';
import mysql, { type Pool, type PoolConnection, type ResultSetHeader, type RowDataPacket } from 'mysql2/promise';

/** What one call has cost in the database so far. */
export type DatabaseCost = { databaseUs: number; statements: number };
/** The call that the running code works for. */
export const currentCost = new AsyncLocalStorage<DatabaseCost>();

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
  /** One connection of the pool for streaming many rows; to be released by the caller. */
  connect(): Promise<PoolConnection>;
  /** Holds one connection for the length of `work`. */
  withConnection<T>(work: (connection: PoolConnection) => Promise<T>): Promise<T>;
  /** Runs `work` under a named lock that holds across instances. */
  withLock<T>(name: string, work: (connection: PoolConnection) => Promise<T>): Promise<T>;
  close(): Promise<void>;
};

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

const timedQuery =
  (query: Run): Run =>
  (sql, values) =>
    timed(query(sql, values));

/** Makes the ORM's own calls on a pool or connection count as well. */
function timeQueries(client: Pool | PoolConnection): void {
  const query = client.query.bind(client) as (...args: unknown[]) => Promise<unknown>;
  client.query = ((...args: unknown[]) => timed(query(...args))) as typeof client.query;
}

type Run = (sql: string, values: unknown[]) => Promise<unknown>;

/** @param prepared not timed yet @param plain timed already, where the ORM runs on it too */
function statementsOn(prepared: Run, plain: Run): Statements {
  const first = async (work: Promise<unknown>) => ((await work) as [unknown])[0];
  const execute = (sql: string, values: unknown[] = []) => first(timed(prepared(sql, values)));
  const query = (sql: string, values: unknown[] = []) => first(plain(sql, values));
  return { rows: execute, change: execute, run: query, runRows: query } as Statements;
}

const MAX_ATTEMPTS = 4;

async function inTransaction<T>(connection: PoolConnection, work: (statements: Statements) => Promise<T>): Promise<T> {
  const query = connection.query.bind(connection) as Run;
  await query('START TRANSACTION', []);
  try {
    const result = await work(statementsOn(connection.execute.bind(connection) as Run, query));
    await query('COMMIT', []);
    return result;
  } catch (error) {
    await query('ROLLBACK', []).catch(() => connection.destroy());
    throw error;
  }
}

/** Opens a pool to the system database of the address, which must exist. */
export function openDatabase(url: string, connections = 20): Database {
  const pool = mysql.createPool({
    uri: url.replace(/^mariadb:/, 'mysql:'),
    connectionLimit: connections,
    maxIdle: connections,
    idleTimeout: 60_000,
    timezone: 'Z',
    charset: 'utf8mb4_bin',
    connectTimeout: 4000,
    maxPreparedStatements: 500,
    supportBigNumbers: true,
    dateStrings: ['DATE'],
    // The caller's stack would be taken with every statement, for the sake of the few that fail; errors tell their statement.
    trace: false,
  });
  const pooled = statementsOn(pool.execute.bind(pool) as Run, timedQuery(pool.query.bind(pool) as Run));
  timeQueries(pool);
  const seen = new WeakSet<object>();
  const withConnection: Database['withConnection'] = async (work) => {
    const connection = await pool.getConnection();
    if (!seen.has(connection)) {
      seen.add(connection);
      timeQueries(connection);
    }
    try {
      return await work(connection);
    } finally {
      connection.release();
    }
  };
  return {
    name: decodeURIComponent(new URL(url).pathname.slice(1)) || 'orchard',
    orm: drizzle(pool),
    ...pooled,
    connect: () => pool.getConnection(),
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
    withLock: (name, work) =>
      withConnection(async (connection) => {
        const [rows] = await connection.query<RowDataPacket[]>('SELECT GET_LOCK(?, 30) AS taken', [name]);
        if (rows[0]?.taken !== 1) throw new Error(`The lock ${name} was not to be had within 30 s.`);
        try {
          return await work(connection);
        } finally {
          await connection.query('DO RELEASE_LOCK(?)', [name]);
        }
      }),
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

const codeOf = (error: unknown): string | undefined => {
  const { code, cause } = (error ?? {}) as { code?: string; cause?: unknown };
  return code ?? (cause ? codeOf(cause) : undefined);
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
