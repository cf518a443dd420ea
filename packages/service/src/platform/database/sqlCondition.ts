/** An SQL condition assembled from parts, with the values of its placeholders in order. */
export type SqlCondition = { sql: string; values: unknown[] };

/** As many placeholders as there are values. */
export const marks = (list: readonly unknown[]): string => list.map(() => '?').join(', ');
