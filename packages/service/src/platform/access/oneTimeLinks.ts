/** One-time addresses: valid for an hour unless said otherwise, and only a few at a time. */
import { Problem } from '@orchard/contract';
import { formatKey, readKey } from '@orchard/core';
import type { Statements } from '../database/connection.js';
import { hashKey } from './secrets.js';

const LIFE_MS = 3_600_000;
const MOST_OPEN = 5;

type Ground = { database: Statements; now: () => number; random: (bytes: number) => Buffer };
/** Their table, its column for the account, and, where it holds several kinds, which. */
export type LinkTable = { table: string; owner: 'userId' | 'memberId'; kind?: string };
export type LinkOptions = { lifeMs?: number; detail?: string | null };

/** A fresh token; null if too many are open already. */
export async function makeLink(
  { database, now, random }: Ground,
  { table, owner, kind }: LinkTable,
  id: string,
  { lifeMs = LIFE_MS, detail = null }: LinkOptions = {},
): Promise<{ token: string; expiresAt: Date } | null> {
  await database.run(`DELETE FROM ${table} WHERE expiresAt < ?`, [new Date(now())]);
  const [open] = await database.rows<{ n: number }>(`SELECT COUNT(*) AS n FROM ${table} WHERE ${owner} = ?${ofKind(kind)}`, [
    id,
    ...(kind ? [kind] : []),
  ]);
  if (Number(open?.n ?? 0) >= MOST_OPEN) return null;
  const token = formatKey('setup', random(16));
  const expiresAt = new Date(now() + lifeMs);
  const own = kind ? { columns: ', kind, detail', values: [kind, detail] } : { columns: '', values: [] };
  await database.run(`INSERT INTO ${table} (tokenHash, ${owner}, expiresAt${own.columns}) VALUES (?)`, [
    [hashKey(token), id, expiresAt, ...own.values],
  ]);
  return { token, expiresAt };
}

/**
 * Uses a token up, with every other one of the same account.
 * @param fits called with its owner before that; if it throws, the token stays valid for another attempt
 * @throws {Problem} link-refused
 */
export async function takeLink<Account>(
  { database, now }: Ground,
  { table, owner, kind }: LinkTable,
  token: string,
  fits: (id: string, detail: string | null) => Promise<Account>,
): Promise<Account> {
  const refused = () => new Problem('link-refused');
  if (!readKey(token).ok) throw refused();
  const [row] = await database.rows<{ id: string; detail: string | null }>(
    `SELECT ${owner} AS id, ${kind ? 'detail' : 'NULL'} AS detail FROM ${table} WHERE tokenHash = ? AND expiresAt > ?${ofKind(kind)}`,
    [hashKey(token), new Date(now()), ...(kind ? [kind] : [])],
  );
  if (!row) throw refused();
  const account = await fits(row.id, row.detail);
  // The deletion decides: of two concurrent calls only one succeeds.
  const { affectedRows } = await database.change(`DELETE FROM ${table} WHERE tokenHash = ?`, [hashKey(token)]);
  if (affectedRows !== 1) throw refused();
  await database.run(`DELETE FROM ${table} WHERE ${owner} = ?${ofKind(kind)}`, [row.id, ...(kind ? [kind] : [])]);
  return account;
}

const ofKind = (kind: string | undefined): string => (kind ? ' AND kind = ?' : '');

/** The text of the mail. */
export const linkMail = (what: string, address: string) => ({
  subject: `A new password for ${what}`,
  text: `A new password was requested for ${what}, for the account with this mail address.\n\nSet it here, within an hour:\n${address}\n\nThe address works once. If this was not you, ignore this mail: the password stays the same.\n`,
});
