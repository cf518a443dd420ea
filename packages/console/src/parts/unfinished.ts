/** An unfinished step is drawn lighter: its values still grow, and must not look like a fall or a rise. */

export type Row = { at: string; [series: string]: string | number | null };
export type Point = { name?: unknown; value?: unknown };
export const SO_FAR = ' so far';

/**
 * Moves the values of the last step to series of their own while the step lasts. A line needs the step before it too, from
 * which it is drawn.
 */
export function withUnfinished<R extends Row>(
  rows: R[],
  series: { name: string }[],
  stepMs: number,
  kind: 'line' | 'bar',
  now = Date.now(),
): R[] {
  const last = rows.at(-1);
  if (!last || Date.parse(last.at) + stepMs <= now) return rows;
  const soFar = (row: R) => Object.fromEntries(series.map(({ name }) => [name + SO_FAR, row[name]]));
  const without = Object.fromEntries(series.map(({ name }) => [name, null]));
  const before = rows.at(-2);
  const start = before && kind === 'line' ? [{ ...before, ...soFar(before) }] : before ? [before] : [];
  return [...rows.slice(0, -2), ...start, { ...last, ...without, ...soFar(last) }];
}

/** At the step before the unfinished one, a line has both values; show one. */
export function pointedAt(payload: readonly Point[] = []): Point[] {
  const present = payload.filter(({ value }) => value !== null && value !== undefined);
  const whole = present.filter(({ name }) => !String(name).endsWith(SO_FAR));
  return whole.length > 0 ? whole : present;
}
