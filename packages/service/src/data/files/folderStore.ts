/** Folders, as rows. Raw SQL: it joins the transactions of writes, and the files of a folder are found by the rules of callers. */
import { createHash } from 'node:crypto';
import { type AccessRules, bindSlots, foldersAbove } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import { storedJson } from '../../platform/database/storedJson.js';
import type { Shapes } from '../collections/catalogue.js';
import { visibleSql } from '../collections/querySql.js';
import type { CollectionShape } from '../collections/shape.js';
import { askingOf, type Author } from '../records/author.js';
import { folderTable } from './tables.js';

export type FolderRow = { path: string; rules: AccessRules | null; public: boolean };

const keyOf = (path: string): string => createHash('sha256').update(path).digest('hex');
const parentOf = (path: string): string => foldersAbove(path)[1] ?? '';
/** What begins with the folder's path and a slash. */
export const below = (folder: string): [string, string] => [`${folder}/`, `${folder}0`];
const present = (row: FolderRow): FolderRow => ({
  ...row,
  rules: row.rules === null ? null : storedJson(row.rules as never),
  public: Boolean(row.public),
});

/** Folders with rules of their own, and public ones. */
export async function specialFolders({ db }: Environment): Promise<FolderRow[]> {
  const rows = await db.rows<FolderRow>(
    `SELECT path, rules, public FROM ${db.of(folderTable)} WHERE rules IS NOT NULL OR public ORDER BY path`,
  );
  return rows.map(present);
}

export async function findFolder({ db }: Environment, path: string): Promise<FolderRow | null> {
  const [row] = await db.rows<FolderRow>(`SELECT path, rules, public FROM ${db.of(folderTable)} WHERE \`key\` = ?`, [keyOf(path)]);
  return row ? present(row) : null;
}

/** Makes a folder and those it lies in, as far as they are missing. @returns whether it was made */
export async function ensureFolder(on: Statements, { db }: Environment, folder: string, by: string, now: Date): Promise<boolean> {
  const missing = foldersAbove(folder).filter(Boolean);
  if (missing.length === 0) return false;
  const { affectedRows } = await on.run(
    `INSERT IGNORE INTO ${db.of(folderTable)} (\`key\`, path, parent, public, createdBy, createdAt) VALUES ${missing.map(() => '(?, ?, ?, FALSE, ?, ?)').join(', ')}`,
    missing.flatMap((path) => [keyOf(path), path, keyOf(parentOf(path)), by, now]),
  );
  return affectedRows > 0;
}

/**
 * The folder whose rules hold in a folder, as they are until the transaction ends.
 * @returns the innermost folder above with rules of its own; the root where there is none
 */
export async function governing(on: Statements, { db }: Environment, folder: string): Promise<string> {
  const keys = foldersAbove(folder).map(keyOf);
  const rows = await on.rows<{ path: string; own: number }>(
    `SELECT path, rules IS NOT NULL AS own FROM ${db.of(folderTable)} WHERE \`key\` IN (${keys.map(() => '?').join(', ')}) LOCK IN SHARE MODE`,
    keys,
  );
  return rows.filter(({ own }) => Number(own) === 1).reduce((longest, { path }) => (path.length > longest.length ? path : longest), '');
}

/** Sets what a folder has of its own. */
export async function writeFolder(on: Statements, { db }: Environment, folder: FolderRow, by: string, now: Date): Promise<void> {
  await on.change(
    `INSERT INTO ${db.of(folderTable)} (\`key\`, path, parent, rules, public, createdBy, createdAt) VALUES (?, ?, ?, ?, ?, ?, ?)
     ON DUPLICATE KEY UPDATE rules = VALUES(rules), public = VALUES(public)`,
    [keyOf(folder.path), folder.path, keyOf(parentOf(folder.path)), folder.rules && JSON.stringify(folder.rules), folder.public, by, now],
  );
}

/** Gives the files that one folder governs to another, and writes no entry of the feed: nothing of them changes. */
export async function moveArea(on: Statements, { table }: CollectionShape, from: string, to: string, within: string): Promise<void> {
  await on.run('SET @orchard_quiet := 1');
  try {
    await on.change(`UPDATE ${table} SET rulesFrom = ? WHERE rulesFrom = ? AND (? = '' OR folder = ? OR (folder >= ? AND folder < ?))`, [
      to,
      from,
      within,
      within,
      ...below(within),
    ]);
  } finally {
    await on.run('SET @orchard_quiet := 0');
  }
}

/** Folders that lie in a folder; of callers with rules, those in which they may read something. */
export async function foldersIn(
  { db }: Environment,
  folder: string,
  within: { shapes: Shapes; shape: CollectionShape; author: Author; now: number },
): Promise<{ path: string; public: boolean }[]> {
  const { shapes, shape, author, now } = within;
  const rule = author.trusted ? null : visibleSql(shapes, shape, 't');
  const readable = author.trusted
    ? ''
    : ` AND (f.public OR EXISTS (SELECT 1 FROM ${shape.table} t WHERE (t.folder = f.path OR (t.folder >= CONCAT(f.path, '/') AND t.folder < CONCAT(f.path, '0')))${rule ? ` AND ${rule.sql}` : ''}))`;
  const rows = await db.rows<{ path: string; public: number }>(
    `SELECT f.path, f.public FROM ${db.of(folderTable)} f WHERE f.parent = ?${folder === '' ? " AND f.path <> ''" : ''}${readable} ORDER BY f.path LIMIT 1000`,
    [keyOf(folder), ...(rule ? bindSlots(rule.slots, askingOf(author, now)) : [])],
  );
  return rows.map((row) => ({ path: row.path, public: Boolean(row.public) }));
}

/** A folder and all below it. */
export async function foldersWithin(on: Statements, { db }: Environment, folder: string): Promise<FolderRow[]> {
  const rows = await on.rows<FolderRow>(
    `SELECT path, rules, public FROM ${db.of(folderTable)} WHERE path = ? OR (path >= ? AND path < ?) ORDER BY path`,
    [folder, ...below(folder)],
  );
  return rows.map(present);
}

export async function removeFolders(on: Statements, { db }: Environment, paths: readonly string[]): Promise<void> {
  if (paths.length === 0) return;
  await on.run(`DELETE FROM ${db.of(folderTable)} WHERE \`key\` IN (?)`, [paths.map(keyOf)]);
}
