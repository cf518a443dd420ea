/** What an error of the database means, however mysql2 and Drizzle wrap it. */

/** Codes by which mysql2 and Node report an unavailable server rather than a wrong statement. */
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
  // A node of a Galera cluster without a majority, or one that is not in step yet.
  'ER_UNKNOWN_COM_ERROR',
]);

/** Whether an error means that the database is unavailable; Drizzle wraps the driver's error as its cause. */
export function isDatabaseAway(error: unknown): boolean {
  for (let at = error as { code?: string; message?: string; cause?: unknown } | undefined; at; at = at.cause as typeof at) {
    if (at.code && AWAY.has(at.code)) return true;
    // mysql2's own words for a connection that has ended; Galera's for a node without a majority.
    if (/closed state|Not connected to Primary Component/.test(at.message ?? '')) return true;
  }
  return false;
}

/** Errors of MariaDB's own that mysql2 has no name for. */
const NAMELESS: Record<number, string> = { 1969: 'ER_STATEMENT_TIMEOUT', 4025: 'ER_CONSTRAINT_FAILED' };
const codeOf = (error: unknown): string | undefined => {
  const { code, errno, cause } = (error ?? {}) as { code?: string; errno?: number; cause?: unknown };
  return code ?? NAMELESS[errno ?? 0] ?? (cause ? codeOf(cause) : undefined);
};
/** Whether MariaDB chose a statement as a deadlock victim; it can be retried. */
export const isDeadlock = (error: unknown) => ['ER_LOCK_DEADLOCK', 'ER_LOCK_WAIT_TIMEOUT', 'ER_CHECKREAD'].includes(codeOf(error) ?? '');
/** Whether a statement lost against another one, here or on another node; nothing of it was done. */
export const isConflict = (error: unknown): boolean => codeOf(error) === 'ER_LOCK_DEADLOCK';
/** Whether the server has no room for another prepared statement. */
export const isFullOfStatements = (error: unknown): boolean => codeOf(error) === 'ER_MAX_PREPARED_STMT_COUNT_REACHED';
/**
 * Whether a prepared statement misses a table that only a trigger names. MariaDB prepares it anew where a trigger is younger; one
 * that had to wait while the statement was prepared counts as older, and runs without its tables having been opened.
 */
export const isTriggerUnknown = (error: unknown, sql: string): boolean => {
  const [, table] = (codeOf(error) === 'ER_NO_SUCH_TABLE' && /\.([^.']+)' doesn't exist/.exec(messageOf(error))) || [];
  return table !== undefined && !sql.includes(table);
};
/** Whether a write violates a foreign key. */
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
/** Whether the database or table of a statement is gone: its environment or collection was deleted meanwhile. */
export const isGone = (error: unknown): boolean =>
  ['ER_BAD_DB_ERROR', 'ER_NO_SUCH_TABLE', 'ER_DBACCESS_DENIED_ERROR'].includes(codeOf(error) ?? '');
/** Whether a value violates a check of its column, such as that of JSON. */
export const isBrokenCheck = (error: unknown): boolean =>
  ['ER_CONSTRAINT_FAILED', 'ER_DATA_TOO_LONG', 'ER_TRUNCATED_WRONG_VALUE_FOR_FIELD'].includes(codeOf(error) ?? '');
/** Whether arithmetic in a statement left the range of its type. */
export const isOutOfRange = (error: unknown): boolean => codeOf(error) === 'ER_DATA_OUT_OF_RANGE';
/** Whether the disk of the database has no room left: it goes on to read, and refuses whatever needs room. */
export const isDatabaseFull = (error: unknown): boolean =>
  ['ER_RECORD_FILE_FULL', 'ER_DISK_FULL'].includes(codeOf(error) ?? '') || NO_SPACE_LEFT.test(messageOf(error));
/** Number 28 of errno.h, as MariaDB's messages of failed writes give it. */
const NO_SPACE_LEFT = /\b(?:err(?:or|no|code)):? 28\b/i;
/** Whether the same may be written once the database takes writes again: nothing is wrong with what failed. */
export const isDatabaseUnable = (error: unknown): boolean => isDatabaseAway(error) || isDatabaseFull(error);
/** MariaDB's own message of an error, however it is wrapped. */
export const messageOf = (error: unknown): string => {
  const { message = '', cause } = (error ?? {}) as { message?: string; cause?: unknown };
  return cause ? messageOf(cause) : message;
};

/** Whether an error is MariaDB's "duplicate entry" for a key. */
export function isDuplicate(error: unknown): boolean {
  const { code, cause } = error as { code?: string; cause?: unknown };
  return code === 'ER_DUP_ENTRY' || (cause !== undefined && isDuplicate(cause));
}

/** The message of a write that is held while an environment moves to another server; its id follows. */
export const MOVING = 'orchard: moving ';

/** The environment whose move holds a write; null where that is not why it failed. */
export function heldByMove(error: unknown): string | null {
  const { message = '', cause } = (error ?? {}) as { message?: string; cause?: unknown };
  const at = message.indexOf(MOVING);
  if (at >= 0) return /^[a-z2-7]+/.exec(message.slice(at + MOVING.length))?.[0] ?? null;
  return cause === undefined ? null : heldByMove(cause);
}
