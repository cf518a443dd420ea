/** What goes to standard output: a table for people, JSON or CSV for programs. */
import Table from 'cli-table3';
import { stringify } from 'csv-stringify/sync';
import type { WaySteps } from '@orchard/contract';
import type { GlobalOptions } from './context.js';
import { print, printError, surroundings } from './surroundings.js';

/**
 * What a list shows: names of fields, or a name with a function for its value. The head of a column is the field's name, so
 * that it can be copied into a filter.
 */
export type Columns<T> = readonly (Extract<keyof T, string> | readonly [name: string, value: (item: T) => unknown])[];

/** RFC 3339 in UTC, as the service writes times. */
const TIME = /^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z$/;
const plain = (value: unknown): string =>
  value === null || value === undefined ? '' : typeof value === 'object' ? JSON.stringify(value) : String(value);
/** A value as people read it in a column. */
function readable(value: unknown): unknown {
  if (typeof value === 'boolean') return value ? 'yes' : '';
  if (typeof value === 'string' && TIME.test(value)) return moment(value);
  return wordsInLine(value);
}
const wordsInLine = (value: unknown): unknown =>
  Array.isArray(value) && value.every((item) => typeof item === 'string') ? value.join(' ') : value;
/** Control characters could steer the terminal; stored text must not. */
export const printText = (value: unknown): string => plain(value).replace(/[\u0000-\u0008\u000b-\u001f\u007f-\u009f]/g, '·');

const NO_LINES = Object.fromEntries(
  ['top', 'top-mid', 'top-left', 'top-right', 'bottom', 'bottom-mid', 'bottom-left', 'bottom-right', 'left', 'left-mid', 'mid']
    .concat('mid-mid', 'right', 'right-mid')
    .map((place) => [place, '']),
);

export function printList<T>(items: T[], columns: Columns<T>, options: GlobalOptions, next?: string): void {
  if (options.json) return print(JSON.stringify(next ? { items, next } : { items }, null, 2));
  const names = columns.map((column) => (typeof column === 'string' ? column : column[0]));
  const values = (item: T) => columns.map((column) => (typeof column === 'string' ? item[column] : column[1](item)));
  if (options.csv) {
    surroundings().stdout.write(stringify([names, ...items.map((item) => values(item).map(plain))]));
    return;
  }
  if (items.length === 0) return note('Nothing found.', options);
  const rows = items.map((item) => values(item).map(readable));
  const isNumeric = (column: number) => rows.every((row) => ['number', 'undefined'].includes(typeof (row[column] ?? undefined)));
  const table = new Table({
    head: names,
    colAligns: names.map((_, column) => (isNumeric(column) ? 'right' : 'left')),
    chars: { ...NO_LINES, middle: '  ' },
    style: { head: surroundings().stdout.isTTY ? ['bold'] : [], border: [], 'padding-left': 0, 'padding-right': 0 },
  });
  for (const row of rows) table.push(row.map(printText));
  print(table.toString().replace(/[ \t]+$/gm, ''));
  if (next) note(`There is more: --cursor ${next}`, options);
}

export function printItem(item: Record<string, unknown>, options: GlobalOptions): void {
  if (options.json) return print(JSON.stringify(item, null, 2));
  const width = Math.max(...Object.keys(item).map((name) => name.length));
  for (const [name, value] of Object.entries(item)) print(`${name.padEnd(width)}  ${printText(wordsInLine(value))}`);
}

/** For the person rather than the program that reads: standard error. */
export function note(text: string, options: Pick<GlobalOptions, 'quiet'>): void {
  if (!options.quiet) printError(text);
}

/** A time as people read it in a column. */
export const moment = (at: string | null) => (at ? at.slice(0, 19).replace('T', ' ') : '');

/** What was checked, a step a line. */
export function printSteps({ ok, steps }: WaySteps, options: GlobalOptions): void {
  if (!ok) surroundings().exitCode = 1;
  if (options.json) return printItem({ ok, steps }, options);
  printList(steps, ['what', ['ok', ({ ok: passed }) => (passed ? 'ok' : 'failed')], 'text'], options);
}
