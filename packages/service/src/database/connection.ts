/** The connection pool, with the time each call spends in the database. */
import { AsyncLocalStorage } from 'node:async_hooks';
import { drizzle, type MySql2Database } from 'drizzle-orm/mysql2';
import mysql, { type Pool, type PoolConnection, type ResultSetHeader, type RowDataPacket } from 'mysql2/promise';

/** What one call has cost in the database so far. */
export type DatabaseCost = { databaseUs: number; statements: number };
/** The call that the running code works for. */
export const currentCost = new AsyncLocalStorage<DatabaseCost>();

export type Database = {
  /** Name of the system database; those of environments begin with it. */
  name: string;
  orm: MySql2Database;
  /** Runs a prepared statement that answers rows. */
  rows<T = RowDataPacket>(sql: string, values?: unknown[]): Promise<T[]>;
  /** Runs a prepared statement that changes something. */
  change(sql: string, values?: unknown[]): Promise<ResultSetHeader>;
  /** Runs a statement without preparing it: schema changes, and inserts of many rows with `VALUES ?`. */
  run(sql: string, values?: unknown[]): Promise<ResultSetHeader>;
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

/** Makes the ORM's own calls on a pool or connection count as well. */
function timeQueries(client: Pool | PoolConnection): void {
  const query = client.query.bind(client) as (...args: unknown[]) => Promise<unknown>;
  client.query = ((...args: unknown[]) => timed(query(...args))) as typeof client.query;
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
  });
  const execute = pool.execute.bind(pool);
  const plainQuery = pool.query.bind(pool);
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
    rows: async <T>(sql: string, values: unknown[] = []) => (await timed(execute(sql, values as never[])))[0] as T[],
    change: async (sql, values = []) => (await timed(execute(sql, values as never[])))[0] as ResultSetHeader,
    run: async (sql, values = []) => (await timed(plainQuery(sql, values)))[0] as ResultSetHeader,
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

/** Whether an error is MariaDB's «duplicate entry» for a key. */
export function isDuplicate(error: unknown): boolean {
  const { code, cause } = error as { code?: string; cause?: unknown };
  return code === 'ER_DUP_ENTRY' || (cause !== undefined && isDuplicate(cause));
}
