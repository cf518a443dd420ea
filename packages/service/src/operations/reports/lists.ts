/** Lists as reports: the listing call of each source, the time that a period is about, and the fields worth printing. */
import { actorWords, type AnyOperation, type NewReport, operations } from '@orchard/contract';
import { type Block, type Cell, isPlainObject, type TableColumn } from '@orchard/core';
import type { Ask, Period } from './asking.js';

type List = {
  operation: AnyOperation;
  title: string;
  /** The field that says when; null for a list as it is now. */
  time: string | null;
  columns: string[];
};

const LISTS = {
  requests: {
    operation: operations.telemetry.requests,
    title: 'Requests',
    time: 'at',
    columns: ['at', 'method', 'route', 'status', 'durationMs', 'client', 'problem'],
  },
  log: { operation: operations.log.list, title: 'Log entries', time: 'at', columns: ['at', 'level', 'source', 'text'] },
  errors: {
    operation: operations.log.errors,
    title: 'Errors of apps',
    time: 'lastAt',
    columns: ['name', 'message', 'place', 'count', 'people', 'firstAt', 'lastAt', 'state'],
  },
  incidents: {
    operation: operations.incidents.list,
    title: 'Incidents',
    time: 'openedAt',
    columns: ['openedAt', 'closedAt', 'condition', 'title', 'acknowledgedBy'],
  },
  records: { operation: operations.managedRecords.list, title: 'Records', time: 'createdAt', columns: [] },
  users: { operation: operations.users.list, title: 'Users', time: 'createdAt', columns: ['name', 'email', 'roles', 'createdAt'] },
  devices: {
    operation: operations.devices.list,
    title: 'Devices',
    time: 'createdAt',
    columns: ['platform', 'model', 'appVersion', 'locale', 'reachable', 'createdAt'],
  },
  notifications: {
    operation: operations.notifications.list,
    title: 'Notifications',
    time: 'createdAt',
    columns: ['createdAt', 'title', 'state', 'createdBy'],
  },
} satisfies Partial<Record<NewReport['source'], List>>;
type ListSource = keyof typeof LISTS;

export const isList = (source: string): source is ListSource => Object.hasOwn(LISTS, source);

/** The most rows of a report: it is for reading; a list has pages, and files of its own. */
const MOST_ROWS = 200;
const MOST_COLUMNS = 8;

/** @throws {Problem} malformed-filter, collection-unknown */
export async function listBlocks(ask: Ask, settings: Omit<NewReport, 'name'>, { from, until }: Period): Promise<Block[]> {
  const list: List = LISTS[settings.source as ListSource];
  const during = list.time && `${list.time} >= ${instant(from)} AND ${list.time} < ${instant(until)}`;
  const filter = [settings.filter && `(${settings.filter})`, during].filter(Boolean).join(' AND ');
  const input = {
    ...(settings.collection ? { params: { collection: settings.collection } } : {}),
    query: { limit: MOST_ROWS, ...(filter ? { filter } : {}), ...(settings.sort ? { sort: settings.sort } : {}) },
  };
  const { items, next } = (await ask(list.operation, input)) as { items: Record<string, unknown>[]; next?: string };
  const columns = (settings.columns?.length ? settings.columns : list.columns.length ? list.columns : fieldsOf(items)).map((name) =>
    columnOf(name, items),
  );
  const title = settings.collection ? `${list.title} of ${settings.collection}` : list.title;
  return [
    { kind: 'table', title, columns, rows: items.map((item) => columns.map(({ name }) => cellOf(item[name]))), isCut: next !== undefined },
  ];
}

const instant = (at: number): string => `TIMESTAMP('${new Date(at).toISOString()}')`;
const TIME = /^\d{4}-\d\d-\d\dT[\d:.]+Z$/;

/** Of a collection: its fields, without those that only machines read. */
const fieldsOf = (items: readonly Record<string, unknown>[]): string[] =>
  [...new Set(items.flatMap((item) => Object.keys(item)))]
    .filter((name) => !['id', 'version', 'ownerId', 'updatedAt'].includes(name))
    .slice(0, MOST_COLUMNS);

function columnOf(name: string, items: readonly Record<string, unknown>[]): TableColumn {
  const first = items.map((item) => item[name]).find((value) => value !== null && value !== undefined);
  const type = typeof first === 'number' ? 'number' : typeof first === 'string' && TIME.test(first) ? 'time' : 'text';
  return { name, label: labelOf(name), type };
}

/** `durationMs` → `Duration (ms)`, `openedAt` → `Opened`. */
export function labelOf(name: string): string {
  const words = name
    .replace(/Ms$/, ' (ms)')
    .replace(/(?<=.)At$/, '')
    .replace(/(?<=[a-z])[A-Z]/g, (letter) => ` ${letter.toLowerCase()}`);
  return words.charAt(0).toUpperCase() + words.slice(1);
}

export function cellOf(value: unknown): Cell {
  if (value === null || value === undefined || value === '') return null;
  if (typeof value === 'number' || typeof value === 'string') return value;
  if (typeof value === 'boolean') return value ? 'yes' : 'no';
  if (Array.isArray(value)) return value.map((one) => String(cellOf(one) ?? '')).join(', ');
  if (!isPlainObject(value)) return String(value);
  if ('kind' in value && 'id' in value && 'name' in value) return actorWords(value as never);
  return JSON.stringify(value);
}
