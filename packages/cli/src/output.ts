/** What goes to standard output: a table for people, JSON or CSV for programs. */
import Table from 'cli-table3';
import { stringify } from 'csv-stringify/sync';
import type { GlobalOptions } from './context.js';

export type Columns<T> = Record<string, (item: T) => unknown>;

const plain = (value: unknown): string =>
  value === null || value === undefined ? '' : typeof value === 'object' ? JSON.stringify(value) : String(value);
/** Control characters could steer the terminal; stored text must not. */
export const printText = (value: unknown): string => plain(value).replace(/[\u0000-\u0008\u000b-\u001f\u007f-\u009f]/g, '·');

export function printList<T>(items: T[], columns: Columns<T>, options: GlobalOptions, next?: string): void {
  const names = Object.keys(columns);
  if (options.json) return console.log(JSON.stringify(next ? { items, next } : { items }, null, 2));
  if (options.csv) {
    process.stdout.write(stringify([names, ...items.map((item) => names.map((name) => plain(columns[name]?.(item))))]));
    return;
  }
  if (items.length === 0) return note('Nothing found.', options);
  const none = {
    top: '',
    'top-mid': '',
    'top-left': '',
    'top-right': '',
    bottom: '',
    'bottom-mid': '',
    'bottom-left': '',
    'bottom-right': '',
    left: '',
    'left-mid': '',
    mid: '',
    'mid-mid': '',
    right: '',
    'right-mid': '',
    middle: '  ',
  };
  const isNumeric = (name: string) => items.every((item) => ['number', 'undefined'].includes(typeof (columns[name]?.(item) ?? undefined)));
  const table = new Table({
    head: names,
    colAligns: names.map((name) => (isNumeric(name) ? 'right' : 'left')),
    chars: none,
    style: { head: process.stdout.isTTY ? ['bold'] : [], border: [], 'padding-left': 0, 'padding-right': 0 },
  });
  for (const item of items) table.push(names.map((name) => printText(columns[name]?.(item))));
  console.log(table.toString().replace(/[ \t]+$/gm, ''));
  if (next) note(`There is more: --cursor ${next}`, options);
}

export function printItem(item: Record<string, unknown>, options: GlobalOptions): void {
  if (options.json) return console.log(JSON.stringify(item, null, 2));
  const width = Math.max(...Object.keys(item).map((name) => name.length));
  for (const [name, value] of Object.entries(item)) console.log(`${name.padEnd(width)}  ${printText(value)}`);
}

/** Something for the person, not the program that reads: standard error. */
export function note(text: string, options: Pick<GlobalOptions, 'quiet'>): void {
  if (!options.quiet) console.error(text);
}

/** A time as people read it in a column. */
export const moment = (at: string | null) => (at ? at.slice(0, 19).replace('T', ' ') : '');
