import type { Environment } from '../call.js';

/** One thing that pages watch: SQL over an environment's database for a number that changes when it does. */
export type Mark = { name: string; of: (environment: Environment) => { sql: string; values?: unknown[] } };

/** SQL for the latest time in a column, in milliseconds since 1970. */
export const latestSql = (table: string, column: string): string =>
  `SELECT COALESCE(ROUND(UNIX_TIMESTAMP(MAX(${column})) * 1000), 0) FROM ${table}`;
