/** The connection pool, with the time each call spends in the database and the bytes it reads from there. */
import { AsyncLocalStorage } from 'node:async_hooks';
import type { Duplex } from 'node:stream';
import { drizzle, type MySql2Database } from 'drizzle-orm/mysql2';
import type { Logger } from 'pino';
import mysql, { type Pool, type PoolConnection, type ResultSetHeader, type RowDataPacket } from 'mysql2/promise';
import { heldByMove, isConflict, isDatabaseAway, isFullOfStatements, isTriggerUnknown } from './errors.js';
import { connectionSettings, DatabaseNodes } from './nodes.js';
import { commit, MAX_ATTEMPTS, retried, stepBack } from './retrying.js';
import { StallWatch } from './stalls.js';
import { TransactionSlots } from './transactionSlots.js';
import { insideUnit, outsideUnit, Unit, unitOn } from './unit.js';

/** A statement with when it began and how long it took: nanoseconds of `process.hrtime.bigint()`. */
export type SentStatement = { sql: string; startedNs: bigint; tookNs: bigint };
const MOST_SENT = 40;

/** The database cost of one call so far. */
export type DatabaseCost = {
  databaseUs: number;
  statements: number;
  /** The statements of a call that is recorded with its timeline, the first of them. */
  sent?: SentStatement[];
  /** Called with the bytes of a statement's result while it arrives; throws to stop it. */
  read?: (bytes: number) => void;
  /** Called with the bytes of the call's response while it is built; throws to stop it. */
  answer?: (bytes: number) => void;
};
/** The call of the running code. */
export const currentCost = new AsyncLocalStorage<DatabaseCost>();

/** Runs work that outlives the call that started it: it neither counts as its cost nor belongs to its unit of work. */
export const apart = <T>(work: () => T): T => outsideUnit(() => currentCost.run(undefined as unknown as DatabaseCost, work));

/** Where statements go: the pool, or one transaction. */
export type Statements = {
  /** Runs a prepared statement that returns rows. */
  rows<T = RowDataPacket>(sql: string, values?: unknown[]): Promise<T[]>;
  /** Runs a prepared statement that changes something. */
  change(sql: string, values?: unknown[]): Promise<ResultSetHeader>;
  /** Runs a statement without preparing it: schema changes, and inserts of many rows with `VALUES ?`. */
  run(sql: string, values?: unknown[]): Promise<ResultSetHeader>;
  /** The same for statements that return rows, such as `IN (?)` over a list of any length. */
  runRows<T = RowDataPacket>(sql: string, values?: unknown[]): Promise<T[]>;
};

export type Database = Statements & {
  /** Name of the system database; those of environments begin with it. */
  name: string;
  /** The server's address, for threads that connect by themselves; of a cluster, that of the node in use. It has the password in it. */
  readonly url: string;
  /** `host:port` of the server, or of the node in use. */
  readonly host: string;
  /**
   * Asked when a write is held because its environment moves: waits until that is over.
   * @returns the server that has it then; null where the wait was too long
   */
  whenMoved: (environmentId: string) => Promise<Database | null>;
  orm: MySql2Database;
  /** Runs `work` as one transaction; retried when it was a deadlock victim. */
  transaction<T>(work: (statements: Statements) => Promise<T>): Promise<T>;
  /**
   * Runs `work` as a unit: all its statements on this server are one transaction, also those of transactions inside it.
   * They see what others have committed. A deadlock victim is retried from the start, so `work` touches nothing else.
   */
  unit<T>(work: () => Promise<T>): Promise<T>;
  /**
   * Holds one connection during `work`.
   * @param statementS time limit for its statements, instead of the usual one; 0 is no limit
   */
  withConnection<T>(work: (connection: PoolConnection) => Promise<T>, statementS?: number): Promise<T>;
  /** A separate connection to another database, during `work`. */
  inDatabase<T>(name: string, work: (connection: mysql.Connection) => Promise<T>): Promise<T>;
  close(): Promise<void>;
};

/** The time limit of the pool's statements; work that needs more says so. */
const STATEMENT_S = 30;
/** How long a server may take to answer whether it is there. */
const PROBE_MS = 2_000;

async function timed<T>(work: Promise<T>, sql: unknown): Promise<T> {
  const cost = currentCost.getStore();
  if (!cost) return work;
  const started = process.hrtime.bigint();
  try {
    return await work;
  } finally {
    const tookNs = process.hrtime.bigint() - started;
    cost.databaseUs += Number(tookNs) / 1000;
    cost.statements++;
    if (cost.sent && cost.sent.length < MOST_SENT) cost.sent.push({ sql: sqlOf(sql), startedNs: started, tookNs });
  }
}

/** The builder hands over an object with the statement in it. */
const sqlOf = (sql: unknown): string => (typeof sql === 'string' ? sql : ((sql as { sql?: string }).sql ?? ''));

/** mysql2's connection below its promises. */
type Raw = { stream: Duplex; release(): void; unprepare(sql: unknown): unknown } & Record<
  'execute' | 'query',
  (sql: unknown, values: unknown, done: Done) => Ended
>;
type Done = (error: Error | null, rows: unknown, fields: unknown) => void;
type Ended = { once(event: 'end', ended: () => void): unknown };

/** Counts the bytes that arrive for the running statement of a connection, and aborts it when there are too many. */
class Meter {
  #bytes = 0;
  #read: DatabaseCost['read'];
  /** Why the running statement was aborted. */
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

  /** @returns why the statement was aborted, or null */
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

/**
 * Runs statements each on a connection of its own out of the pool; one that a move holds, where its environment is then. One
 * that lost against another is done again; one that changes nothing also on another node of the cluster, when its own went away.
 */
function onPool(pool: Pool, how: How, stalls: StallWatch, moved: (error: unknown) => Promise<Database | null>, nodes: DatabaseNodes): Run {
  const run = onOwnServer(pool, how, stalls);
  const again = async (sql: string, error: unknown, attempt: number): Promise<boolean> => {
    if (isConflict(error)) {
      await stepBack(attempt);
      return true;
    }
    if (!nodes.isCluster || !isDatabaseAway(error) || !(ONLY_READS.test(sqlOf(sql)) || isUnsent(error))) return false;
    await nodes.look();
    return true;
  };
  return async (sql, values) => {
    for (let attempt = 1; ; attempt++) {
      try {
        return await run(sql, values);
      } catch (error) {
        if (unitOn(pool)) throw error;
        const there = await moved(error);
        if (there) return [await there.run(sql, values), undefined];
        if (attempt === MAX_ATTEMPTS || !(await again(sql, error, attempt))) throw error;
      }
    }
  };
}

const ONLY_READS = /^\s*(?:SELECT|SHOW)\b/i;
/** The connection was never there, so the statement was not either. */
const isUnsent = (error: unknown): boolean => (error as { code?: string }).code === 'ECONNREFUSED';

function onOwnServer(pool: Pool, how: How, stalls: StallWatch): Run {
  const below = (pool as unknown as { pool: { getConnection(got: (error: Error | null, raw: Raw) => void): void } }).pool;
  return (sql, values) => {
    const unit = unitOn(pool);
    if (unit) return unit.statement(how, sql, values);
    const read = currentCost.getStore()?.read;
    return new Promise((resolve, reject) => {
      below.getConnection((error, raw) => {
        if (error) return reject(error);
        try {
          stalls.begin(raw);
        } catch (silent) {
          raw.release();
          return reject(silent);
        }
        const meter = meterOf(raw);
        meter.begin(read);
        const run = (by: How) =>
          raw[by](sql, values, (failed, rows, fields) => {
            if (by === 'execute' && goesAsText(raw, sql, failed)) return void run('query');
            const stopped = meter.end();
            stalls.end(raw);
            raw.release();
            if (failed) reject(stopped ?? failed);
            else resolve([rows, fields]);
          });
        run(how);
      });
    });
  };
}

/** Whether a prepared statement that failed is sent again as text: nothing of it was done. */
function goesAsText(raw: Raw, sql: string, error: unknown): boolean {
  // The server has no room for prepared statements.
  if (isFullOfStatements(error)) return true;
  if (!isTriggerUnknown(error, sqlOf(sql))) return false;
  raw.unprepare(sql);
  return true;
}

/** Runs statements on one connection, one after another. */
function onConnection(connection: PoolConnection, how: How, stalls: StallWatch): Run {
  const run = { execute: connection.execute.bind(connection), query: connection.query.bind(connection) } as Record<How, Run>;
  const raw = connection.connection as unknown as Raw;
  const meter = meterOf(raw);
  return async (sql, values) => {
    stalls.begin(raw);
    meter.begin(currentCost.getStore()?.read);
    try {
      return await run[how](sql, values);
    } catch (error) {
      if (how === 'execute' && goesAsText(raw, sql, error)) return await run.query(sql, values);
      throw meter.end() ?? error;
    } finally {
      meter.end();
      stalls.end(raw);
    }
  };
}

function statementsOn(prepared: Run, plain: Run): Statements {
  const first = async (work: Promise<unknown>) => ((await work) as [unknown])[0];
  const execute = (sql: string, values: unknown[] = []) => first(timed(prepared(sql, values), sql));
  const query = (sql: string, values: unknown[] = []) => first(timed(plain(sql, values), sql));
  return { rows: execute, change: execute, run: query, runRows: query } as Statements;
}

async function inTransaction<T>(connection: PoolConnection, stalls: StallWatch, work: (statements: Statements) => Promise<T>): Promise<T> {
  const plain = onConnection(connection, 'query', stalls);
  await plain('START TRANSACTION', []);
  try {
    const result = await work(statementsOn(onConnection(connection, 'execute', stalls), plain));
    await commit(() => plain('COMMIT', []));
    return result;
  } catch (error) {
    await connection.query('ROLLBACK').catch(() => connection.destroy());
    throw error;
  }
}

async function asUnit<T>(pool: Pool, connection: PoolConnection, stalls: StallWatch, work: () => Promise<T>): Promise<[T, Unit]> {
  const unit = new Unit(pool, connection, (on, how, sql, values) => onConnection(on, how, stalls)(sql, values));
  const plain = onConnection(connection, 'query', stalls);
  // A version that was read must be the current one, as it is in separate statements.
  await plain('SET TRANSACTION ISOLATION LEVEL READ COMMITTED', []);
  await plain('START TRANSACTION', []);
  try {
    const result = await insideUnit(unit, work);
    await commit(() => unit.commit());
    return [result, unit];
  } catch (error) {
    await unit.rollback();
    throw error;
  }
}

/** The query builder on a pool; its transactions inside a unit are part of it. */
function ormOn(pool: Pool): MySql2Database {
  const orm = drizzle(pool);
  const transaction = orm.transaction.bind(orm);
  orm.transaction = ((work: (on: MySql2Database) => Promise<unknown>, settings?: never) => {
    const unit = unitOn(pool);
    return unit ? unit.within(() => work(orm)) : transaction(work as never, settings);
  }) as typeof orm.transaction;
  return orm;
}

export type OpenOptions = {
  connections?: number;
  /** How many prepared statements the pool may keep on the server, over all its connections. */
  statements?: number;
  /** Whether it is a node of a Galera cluster. */
  isGalera?: boolean;
  log?: Pick<Logger, 'warn' | 'info'>;
};

/** Opens a pool to the system database of the address, which must exist. */
export function openDatabase(url: string, { connections = 20, statements = 4_000, isGalera = false, log }: OpenOptions = {}): Database {
  const nodes = new DatabaseNodes(url, log);
  const settings = connectionSettings(nodes.url);
  const pool = mysql.createPool({
    ...settings,
    ...(nodes.isCluster ? { stream: () => nodes.connect() } : {}),
    connectionLimit: connections,
    maxIdle: connections,
    idleTimeout: 60_000,
    maxPreparedStatements: Math.max(10, Math.floor(statements / connections)),
  });
  // Runs first on each connection, before any waiting caller.
  // On Galera a read waits until its node has everything that was committed before it: whoever wrote through another instance
  // reads what they wrote.
  const session = `SET SESSION max_statement_time = ${STATEMENT_S}${isGalera ? ', wsrep_sync_wait = 1' : ''}`;
  pool.pool.on('connection', (raw) => raw.query(session, () => undefined));
  const slots = new TransactionSlots(Math.max(1, Math.floor(connections / 2)));
  const stalls = new StallWatch(() => answers({ ...connectionSettings(nodes.url), connectTimeout: PROBE_MS }));
  /** Where a write goes that a move has held; null where that is not why it failed. */
  const moved = async (error: unknown): Promise<Database | null> => {
    const environmentId = heldByMove(error);
    return environmentId === null ? null : database.whenMoved(environmentId);
  };
  const plain = onPool(pool, 'query', stalls, moved, nodes);
  const pooled = statementsOn(onPool(pool, 'execute', stalls, moved, nodes), plain);
  /** Where it was held by a move, the work is done again on the server that has the environment then. */
  const orWhereMoved = async <T>(here: () => Promise<T>, there: (database: Database) => Promise<T>): Promise<T> => {
    try {
      return await here();
    } catch (error) {
      const other = await moved(error);
      if (!other) throw error;
      return other === database ? orWhereMoved(here, there) : there(other);
    }
  };
  // Statements of the ORM count as well.
  pool.query = ((sql: string, values: unknown[]) => timed(plain(sql, values), sql)) as typeof pool.query;
  const withConnection: Database['withConnection'] = async (work, statementS) => {
    const connection = await pool.getConnection();
    const limit = (seconds: number) => connection.query(`SET SESSION max_statement_time = ${seconds}`);
    try {
      if (statementS !== undefined) await limit(statementS);
      return await work(connection);
    } finally {
      // A connection that cannot be reset is closed.
      if (statementS !== undefined) await limit(STATEMENT_S).catch(() => connection.destroy());
      connection.release();
    }
  };
  const database: Database = {
    whenMoved: async () => null,
    name: systemDatabaseOf(nodes.url),
    get url() {
      return nodes.url;
    },
    get host() {
      return nodes.host;
    },
    orm: ormOn(pool),
    ...pooled,
    transaction: (work) => {
      const unit = unitOn(pool);
      if (unit) return unit.within(() => work(pooled));
      return orWhereMoved(
        () => slots.take(() => retried(nodes, () => withConnection((connection) => inTransaction(connection, stalls, work)))),
        (there) => there.transaction(work),
      );
    },
    unit: async (work) => {
      if (unitOn(pool)) return work();
      return orWhereMoved(
        async () => {
          const [result, unit] = await slots.take(() =>
            retried(nodes, () => withConnection((connection) => asUnit(pool, connection, stalls, work))),
          );
          unit.committed();
          return result;
        },
        (there) => there.unit(work),
      );
    },
    withConnection,
    inDatabase: async (name, work) => {
      const connection = await mysql.createConnection({ ...connectionSettings(nodes.url), database: name });
      try {
        return await work(connection);
      } finally {
        await connection.end().catch(() => connection.destroy());
      }
    },
    close: () => {
      stalls.close();
      nodes.close();
      return pool.end();
    },
  };
  return database;
}

/** The system database that an address names. */
export const systemDatabaseOf = (url: string): string => decodeURIComponent(new URL(url).pathname.slice(1)) || 'orchard';

/** Whether the server answers on a new connection, within the time that connecting may take. */
async function answers(settings: mysql.ConnectionOptions): Promise<boolean> {
  try {
    const connection = await mysql.createConnection(settings);
    connection.on('error', () => undefined);
    try {
      await connection.query({ sql: 'SELECT 1', timeout: PROBE_MS });
    } finally {
      connection.destroy();
    }
    return true;
  } catch (error) {
    // A server that refuses is there: it says so to the statements themselves.
    return (error as { code?: string }).code !== 'ETIMEDOUT' && (error as { code?: string }).code !== 'PROTOCOL_SEQUENCE_TIMEOUT';
  }
}
