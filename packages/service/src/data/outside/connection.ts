/** Connections to database servers of others: a few each, with time limits, and errors in our own words. */
import { createPool, type Pool as MariadbPool, type PoolConnection, type ResultSetHeader } from 'mysql2/promise';
import pg from 'pg';

/** The same for both kinds of servers. */
export type OutsideStatements = {
  rows: <R extends object>(sql: string, values: readonly unknown[]) => Promise<R[]>;
  /** @returns how many rows it changed */
  change: (sql: string, values: readonly unknown[]) => Promise<number>;
};
export type OutsideConnection = OutsideStatements & {
  transaction: <T>(work: (on: OutsideStatements) => Promise<T>) => Promise<T>;
  close: () => void;
};
export type OutsideAddress = {
  kind: 'mariadb' | 'postgresql';
  host: string;
  port: number;
  database: string;
  user: string;
  password: string;
  tls: boolean;
  trust: string | null;
};

const MOST = 5;
const CONNECT_MS = 5_000;
/** What takes longer is ended by the server. */
export const STATEMENT_MS = 10_000;

export const openOutside = (at: OutsideAddress): OutsideConnection => (at.kind === 'mariadb' ? openMariadb(at) : openPostgresql(at));

const tlsOf = ({ tls, trust }: OutsideAddress) => (tls ? { rejectUnauthorized: true, ...(trust ? { ca: trust } : {}) } : undefined);

function openMariadb(at: OutsideAddress): OutsideConnection {
  const { host, port, database, user, password } = at;
  const ssl = tlsOf(at);
  const pool: MariadbPool = createPool({
    host,
    port,
    database,
    user,
    password,
    ...(ssl ? { ssl } : {}),
    connectionLimit: MOST,
    connectTimeout: CONNECT_MS,
    idleTimeout: 60_000,
    maxIdle: 1,
    timezone: 'Z',
    charset: 'utf8mb4',
    dateStrings: ['DATE'],
    supportBigNumbers: true,
    decimalNumbers: true,
    maxPreparedStatements: 200,
  });
  // A pool asks each of its connections once, before its first use.
  pool.on('connection', (connection) => {
    void (connection as unknown as PoolConnection).query(
      `SET SESSION time_zone = '+00:00', max_statement_time = ${STATEMENT_MS / 1000}, sql_mode = 'STRICT_ALL_TABLES'`,
    );
  });
  const on = (connection: MariadbPool | PoolConnection): OutsideStatements => ({
    rows: async (sql, values) => (await connection.execute(sql, values as never))[0] as never,
    change: async (sql, values) => ((await connection.execute(sql, values as never))[0] as ResultSetHeader).affectedRows,
  });
  return {
    ...on(pool),
    transaction: async (work) => {
      const connection = await pool.getConnection();
      try {
        await connection.beginTransaction();
        const result = await work(on(connection));
        await connection.commit();
        return result;
      } catch (error) {
        await connection.rollback().catch(() => undefined);
        throw error;
      } finally {
        connection.release();
      }
    },
    close: () => void pool.end().catch(() => undefined),
  };
}

/** Types by their numbers in pg_type: dates as they are written, 64-bit and decimal numbers as numbers. */
const READ: Record<number, (text: string) => unknown> = {
  1082: (text) => text,
  20: Number,
  1700: Number,
  // Without a zone it is read as UTC, as the session's zone is.
  1114: (text) => new Date(`${text.replace(' ', 'T')}Z`),
};

/** Statements that a connection keeps prepared. */
const MOST_PREPARED = 100;

/** Names for statements that come again, so that the server plans each once for a connection. */
function statementNames(): (sql: string) => { name?: string } {
  const names = new Map<string, string>();
  return (sql) => {
    const known = names.get(sql);
    if (known) return { name: known };
    if (names.size >= MOST_PREPARED) return {};
    const name = `orchard_${names.size}`;
    names.set(sql, name);
    return { name };
  };
}

function openPostgresql(at: OutsideAddress): OutsideConnection {
  const named = statementNames();
  const { host, port, database, user, password } = at;
  const pool = new pg.Pool({
    host,
    port,
    database,
    user,
    password,
    ssl: tlsOf(at) ?? false,
    max: MOST,
    idleTimeoutMillis: 60_000,
    connectionTimeoutMillis: CONNECT_MS,
    statement_timeout: STATEMENT_MS,
    query_timeout: STATEMENT_MS + 2_000,
    options: '-c TimeZone=UTC -c DateStyle=ISO',
    types: { getTypeParser: (oid: number, format?: never) => READ[oid] ?? pg.types.getTypeParser(oid, format) } as never,
  });
  // A connection that ends while it is idle is replaced.
  pool.on('error', () => undefined);
  const on = (connection: Pick<pg.Pool, 'query'>): OutsideStatements => ({
    rows: async (sql, values) => (await connection.query({ text: sql, values: values as unknown[], ...named(sql) })).rows,
    change: async (sql, values) => (await connection.query(sql, values as unknown[])).rowCount ?? 0,
  });
  return {
    ...on(pool),
    transaction: async (work) => {
      const connection = await pool.connect();
      try {
        await connection.query('BEGIN');
        const result = await work(on(connection as never));
        await connection.query('COMMIT');
        return result;
      } catch (error) {
        await connection.query('ROLLBACK').catch(() => undefined);
        throw error;
      } finally {
        connection.release();
      }
    },
    close: () => void pool.end().catch(() => undefined),
  };
}
