/** Where the time of a call went: spans of its own steps, and of the statements in them. */

/** Times are microseconds from the start of the call. */
export type Span = {
  step: string;
  startUs: number;
  durationUs: number;
  /** Of a statement: what it does to which table. */
  detail?: string;
};

/** Spans as they are stored. */
export const packTimeline = (spans: readonly Span[]): string =>
  JSON.stringify(
    spans.map(({ step, startUs, durationUs, detail }) => [
      step,
      Math.round(startUs),
      Math.round(durationUs),
      ...(detail === undefined ? [] : [detail]),
    ]),
  );

/** Reads what {@link packTimeline} wrote. */
export const unpackTimeline = (text: string): Span[] =>
  (JSON.parse(text) as [string, number, number, string?][]).map(([step, startUs, durationUs, detail]) => ({
    step,
    startUs,
    durationUs,
    ...(detail === undefined ? {} : { detail }),
  }));

/** What a statement does, such as `SELECT huts`: its verb and its first table, without a database and without values. */
export function statementWords(sql: string): string {
  const verb = /^[\s(]*([A-Za-z]+)/.exec(sql)?.[1]?.toUpperCase() ?? '';
  const table = /\b(?:FROM|INTO|UPDATE|JOIN)\s+(?:`\w+`\.)?`?(\w+)`?/i.exec(sql)?.[1] ?? '';
  return `${verb} ${table}`.trim();
}
