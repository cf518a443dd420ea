/** What is stored of files besides their records. Raw SQL: it joins the transactions of writes, and reads a collection whose columns are data. */
import type { DeletedFileDocument, FileEditionDocument, FileUse } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import { storedJson } from '../../platform/database/storedJson.js';
import type { CollectionShape, RecordRow } from '../collections/shape.js';
import { below } from './folderStore.js';
import { contentTable, deletedFileTable, editionTable, fileDayTable, renditionTable } from './tables.js';

export type FileRow = RecordRow & {
  path: string;
  folder: string;
  name: string;
  size: number;
  type: string;
  digest: string;
  edition: number;
  rulesFrom: string;
};

export async function fileAt(on: Statements, { table }: CollectionShape, path: string): Promise<FileRow | null> {
  return (await on.rows<FileRow>(`SELECT * FROM ${table} WHERE path = ?`, [path]))[0] ?? null;
}

export async function fileOf(on: Statements, { table }: CollectionShape, id: string): Promise<FileRow | null> {
  return (await on.rows<FileRow>(`SELECT * FROM ${table} WHERE id = ?`, [id]))[0] ?? null;
}

/** Files of a folder and below. */
export async function filesWithin(on: Statements, { table }: CollectionShape, folder: string, most: number): Promise<FileRow[]> {
  return on.rows<FileRow>(`SELECT * FROM ${table} WHERE folder = ? OR (folder >= ? AND folder < ?) ORDER BY path LIMIT ${most}`, [
    folder,
    ...below(folder),
  ]);
}

export const filesOwnedBy = ({ db }: Environment, { table }: CollectionShape, userId: string): Promise<FileRow[]> =>
  db.rows<FileRow>(`SELECT * FROM ${table} WHERE ownerId = ? ORDER BY path LIMIT 10000`, [userId]);

/** What files take: of one owner, or all. */
export async function bytesOf(on: Statements, { table }: CollectionShape, ownerId?: string): Promise<number> {
  const [row] = await on.rows<{ bytes: number | null }>(
    `SELECT SUM(size) AS bytes FROM ${table}${ownerId === undefined ? '' : ' WHERE ownerId = ?'}`,
    ownerId === undefined ? [] : [ownerId],
  );
  return Number(row?.bytes ?? 0);
}

/** Notes that a content is about to be given to a file. Whoever removes it holds this row, so one is never lost meanwhile. */
export async function noteContent(on: Statements, { db }: Environment, digest: string, size: number, now: Date): Promise<void> {
  await on.change(
    `INSERT INTO ${db.of(contentTable)} (digest, size, keptAt, verifiedAt) VALUES (?, ?, ?, ?)
     ON DUPLICATE KEY UPDATE keptAt = VALUES(keptAt)`,
    [digest, size, now, now],
  );
}

/** Every content that is stored, and whether it was found damaged. */
export async function storedContents({ db }: Environment): Promise<{ digest: string; size: number; damaged: boolean }[]> {
  const rows = await db.rows<{ digest: string; size: number; damaged: number }>(
    `SELECT digest, size, damagedAt IS NOT NULL AS damaged FROM ${db.of(contentTable)} ORDER BY digest`,
  );
  return rows.map(({ digest, size, damaged }) => ({ digest, size: Number(size), damaged: Number(damaged) === 1 }));
}

/** A content was written anew: it is what it should be. */
export async function noteWhole(on: Statements, { db }: Environment, digest: string, now: Date): Promise<void> {
  await on.change(`UPDATE ${db.of(contentTable)} SET verifiedAt = ?, damagedAt = NULL WHERE digest = ?`, [now, digest]);
}

export type EditionRow = { fileId: string; edition: number; digest: string; size: number; type: string; by: string; at: Date };

/** Adds an edition, and forgets those that are not kept any more. */
export async function addEdition(on: Statements, { db }: Environment, row: EditionRow, keep: number): Promise<void> {
  await on.change(
    `INSERT INTO ${db.of(editionTable)} (fileId, edition, digest, size, type, \`by\`, at) VALUES (?, ?, ?, ?, ?, ?, ?)
     ON DUPLICATE KEY UPDATE digest = VALUES(digest), size = VALUES(size), type = VALUES(type), \`by\` = VALUES(\`by\`), at = VALUES(at)`,
    [row.fileId, row.edition, row.digest, row.size, row.type, row.by, row.at],
  );
  await on.change(`DELETE FROM ${db.of(editionTable)} WHERE fileId = ? AND edition <= ?`, [row.fileId, row.edition - keep]);
}

export async function findEdition({ db }: Environment, fileId: string, edition: number): Promise<EditionRow | null> {
  const [row] = await db.rows<EditionRow>(`SELECT * FROM ${db.of(editionTable)} WHERE fileId = ? AND edition = ?`, [fileId, edition]);
  return row ?? null;
}

export async function editionsOf({ db, actors }: Environment, fileId: string): Promise<FileEditionDocument[]> {
  const rows = await db.rows<EditionRow>(`SELECT * FROM ${db.of(editionTable)} WHERE fileId = ? ORDER BY edition DESC LIMIT 100`, [fileId]);
  return rows.map(({ edition, digest, size, type, by, at }) => ({
    edition,
    digest,
    size: Number(size),
    type,
    at: at.toISOString(),
    by: actors.show(by),
  }));
}

export type DeletedRow = { id: string; path: string; record: JsonObject; ownerId: string | null; size: number; by: string; at: Date };

export async function addDeleted(
  on: Statements,
  { db }: Environment,
  { id, path, digest, size, ownerId }: FileRow,
  record: JsonObject,
  by: string,
  at: Date,
): Promise<void> {
  await on.change(
    `INSERT INTO ${db.of(deletedFileTable)} (id, path, record, ownerId, digest, size, \`by\`, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
     ON DUPLICATE KEY UPDATE path = VALUES(path), record = VALUES(record), digest = VALUES(digest), size = VALUES(size), at = VALUES(at)`,
    [id, path, JSON.stringify(record), ownerId, digest, size, by, at],
  );
}

export async function findDeleted(on: Statements, { db }: Environment, id: string): Promise<DeletedRow | null> {
  const [row] = await on.rows<DeletedRow>(`SELECT * FROM ${db.of(deletedFileTable)} WHERE id = ? FOR UPDATE`, [id]);
  return row ? { ...row, record: storedJson(row.record) } : null;
}

export async function forgetDeleted(on: Statements, { db }: Environment, id: string): Promise<void> {
  await on.change(`DELETE FROM ${db.of(deletedFileTable)} WHERE id = ?`, [id]);
}

/** Deleted files, newest first. @param ownerId of one owner alone */
export async function listDeleted(
  { db, actors }: Environment,
  { ownerId, before, limit }: { ownerId?: string; before: Date; limit: number },
  keepDays: number,
): Promise<DeletedFileDocument[]> {
  const rows = await db.rows<DeletedRow>(
    `SELECT * FROM ${db.of(deletedFileTable)} WHERE at < ?${ownerId === undefined ? '' : ' AND ownerId = ?'} ORDER BY at DESC LIMIT ${limit}`,
    [before, ...(ownerId === undefined ? [] : [ownerId])],
  );
  return rows.map(({ id, path, record, size, by, at }) => ({
    id,
    path,
    size: Number(size),
    type: String(storedJson<JsonObject>(record).type),
    deletedAt: at.toISOString(),
    deletedBy: actors.show(by),
    until: new Date(at.getTime() + keepDays * 86_400_000).toISOString(),
  }));
}

/** Forgets files deleted before a moment, with their editions. @returns how many */
export async function endDeleted({ db }: Environment, before: Date): Promise<number> {
  const rows = await db.rows<{ id: string }>(`SELECT id FROM ${db.of(deletedFileTable)} WHERE at < ? LIMIT 1000`, [before]);
  if (rows.length === 0) return 0;
  const ids = rows.map(({ id }) => id);
  await db.transaction(async (on) => {
    await on.run(`DELETE FROM ${db.of(editionTable)} WHERE fileId IN (?)`, [ids]);
    await on.run(`DELETE FROM ${db.of(deletedFileTable)} WHERE id IN (?)`, [ids]);
  });
  return rows.length;
}

/** Rows of another room that have contents: a subquery over the content `c`. */
export type ContentHolder = (environment: Environment) => string;

/** That no file, edition, deleted file or rendition has, and nothing of other rooms. */
const unreferenced = (environment: Environment, { table }: CollectionShape, others: readonly ContentHolder[]): string => {
  const { db } = environment;
  return [
    `SELECT 1 FROM ${table} f WHERE f.digest = c.digest`,
    `SELECT 1 FROM ${db.of(editionTable)} e WHERE e.digest = c.digest`,
    `SELECT 1 FROM ${db.of(deletedFileTable)} d WHERE d.digest = c.digest`,
    `SELECT 1 FROM ${db.of(renditionTable)} r WHERE r.content = c.digest`,
    ...others.map((holder) => holder(environment)),
  ]
    .map((sql) => `NOT EXISTS (${sql})`)
    .join(' AND ');
};

export async function unusedContents(
  environment: Environment,
  shape: CollectionShape,
  others: readonly ContentHolder[],
  before: Date,
): Promise<string[]> {
  const { db } = environment;
  const rows = await db.rows<{ digest: string }>(
    `SELECT c.digest FROM ${db.of(contentTable)} c WHERE c.keptAt < ? AND ${unreferenced(environment, shape, others)} LIMIT 500`,
    [before],
  );
  return rows.map(({ digest }) => digest);
}

/** Removes a content that is still unused, while nobody can be given it. */
export function dropContent(
  environment: Environment,
  shape: CollectionShape,
  others: readonly ContentHolder[],
  digest: string,
  before: Date,
  remove: () => Promise<void>,
): Promise<boolean> {
  const { db } = environment;
  return db.transaction(async (on) => {
    const [row] = await on.rows<{ digest: string }>(
      `SELECT c.digest FROM ${db.of(contentTable)} c WHERE c.digest = ? AND c.keptAt < ? AND ${unreferenced(environment, shape, others)} FOR UPDATE`,
      [digest, before],
    );
    if (!row) return false;
    await on.change(`DELETE FROM ${db.of(contentTable)} WHERE digest = ?`, [digest]);
    await on.change(`DELETE FROM ${db.of(renditionTable)} WHERE digest = ?`, [digest]);
    await remove();
    return true;
  });
}

/** The contents that were verified longest ago. */
export async function contentsToVerify({ db }: Environment, before: Date, most: number): Promise<{ digest: string; size: number }[]> {
  return db.rows(`SELECT digest, size FROM ${db.of(contentTable)} WHERE verifiedAt < ? ORDER BY verifiedAt LIMIT ${most}`, [before]);
}

export async function noteVerified({ db }: Environment, digest: string, isWhole: boolean, now: Date): Promise<void> {
  await db.change(
    `UPDATE ${db.of(contentTable)} SET verifiedAt = ?, damagedAt = ${isWhole ? 'NULL' : 'COALESCE(damagedAt, ?)'} WHERE digest = ?`,
    isWhole ? [now, digest] : [now, now, digest],
  );
}

export async function damagedFiles({ db }: Environment, { table }: CollectionShape): Promise<FileUse['damaged']> {
  const rows = await db.rows<{ path: string; digest: string; damagedAt: Date }>(
    `SELECT f.path, c.digest, c.damagedAt FROM ${db.of(contentTable)} c JOIN ${table} f ON f.digest = c.digest WHERE c.damagedAt IS NOT NULL ORDER BY f.path LIMIT 1000`,
  );
  return rows.map(({ path, digest, damagedAt }) => ({ path, digest, noticedAt: damagedAt.toISOString() }));
}

/** Notes how many files there are today, and what they take. */
export async function noteDay({ db }: Environment, { table }: CollectionShape, day: string): Promise<void> {
  await db.change(
    `INSERT INTO ${db.of(fileDayTable)} (day, files, bytes) SELECT ?, COUNT(*), COALESCE(SUM(size), 0) FROM ${table}
     ON DUPLICATE KEY UPDATE files = VALUES(files), bytes = VALUES(bytes)`,
    [day],
  );
}

export async function readUse({ db }: Environment, { table }: CollectionShape): Promise<Omit<FileUse, 'damaged'>> {
  const numbers = <T extends { files: number; bytes: number }>(rows: T[]): T[] =>
    rows.map((row) => ({ ...row, files: Number(row.files), bytes: Number(row.bytes ?? 0) }));
  const [all] = numbers(await db.rows<{ files: number; bytes: number }>(`SELECT COUNT(*) AS files, SUM(size) AS bytes FROM ${table}`));
  const [stored] = await db.rows<{ bytes: number | null }>(`SELECT SUM(size) AS bytes FROM ${db.of(contentTable)}`);
  const folders = await db.rows<{ folder: string; files: number; bytes: number }>(
    `SELECT SUBSTRING_INDEX(folder, '/', 1) AS folder, COUNT(*) AS files, SUM(size) AS bytes FROM ${table} GROUP BY 1 ORDER BY bytes DESC LIMIT 100`,
  );
  const users = await db.rows<{ userId: string | null; files: number; bytes: number }>(
    `SELECT ownerId AS userId, COUNT(*) AS files, SUM(size) AS bytes FROM ${table} GROUP BY ownerId ORDER BY bytes DESC LIMIT 100`,
  );
  const days = await db.rows<{ day: string; files: number; bytes: number }>(
    `SELECT day, files, bytes FROM ${db.of(fileDayTable)} ORDER BY day DESC LIMIT 90`,
  );
  return {
    files: all?.files ?? 0,
    bytes: all?.bytes ?? 0,
    storedBytes: Number(stored?.bytes ?? 0),
    folders: numbers(folders),
    users: numbers(users),
    days: numbers(days).reverse(),
  };
}
