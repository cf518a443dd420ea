/** A condition for SQL that is put together from parts, with what its placeholders stand for, in order. */
export type SqlCondition = { sql: string; values: unknown[] };

/** As many placeholders as there are values. */
export const marks = (list: readonly unknown[]): string => list.map(() => '?').join(', ');
