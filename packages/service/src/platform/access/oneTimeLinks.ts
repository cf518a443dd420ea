/** One-time addresses for setting a new password: valid for an hour, and only a few at a time. */
import { Problem } from '@orchard/contract';
import { formatKey, readKey } from '@orchard/core';
import type { Statements } from '../database/connection.js';
import { hashKey } from './secrets.js';

const LIFE_MS = 3_600_000;
const MOST_OPEN = 5;

type Ground = { database: Statements; now: () => number; random: (bytes: number) => Buffer };
/** Their table, and its column for the account. */
export type LinkTable = { table: string; owner: 'userId' | 'memberId' };

/** A fresh token; null if too many are open already. */
export async function makeLink(
  { database, now, random }: Ground,
  { table, owner }: LinkTable,
  id: string,
): Promise<{ token: string; expiresAt: Date } | null> {
  await database.run(`DELETE FROM ${table} WHERE expiresAt < ?`, [new Date(now())]);
  const [open] = await database.rows<{ n: number }>(`SELECT COUNT(*) AS n FROM ${table} WHERE ${owner} = ?`, [id]);
  if (Number(open?.n ?? 0) >= MOST_OPEN) return null;
  const token = formatKey('setup', random(16));
  const expiresAt = new Date(now() + LIFE_MS);
  await database.run(`INSERT INTO ${table} (tokenHash, ${owner}, expiresAt) VALUES (?, ?, ?)`, [hashKey(token), id, expiresAt]);
  return { token, expiresAt };
}

/**
 * Uses a token up, with every other one of the same account.
 * @param fits called with its owner before that; if it throws, the token stays valid for another attempt
 * @throws {Problem} link-refused
 */
export async function takeLink<Account>(
  { database, now }: Ground,
  { table, owner }: LinkTable,
  token: string,
  fits: (id: string) => Promise<Account>,
): Promise<Account> {
  const refused = () => new Problem('link-refused');
  if (!readKey(token).ok) throw refused();
  const [row] = await database.rows<{ id: string }>(`SELECT ${owner} AS id FROM ${table} WHERE tokenHash = ? AND expiresAt > ?`, [
    hashKey(token),
    new Date(now()),
  ]);
  if (!row) throw refused();
  const account = await fits(row.id);
  // The deletion decides: of two concurrent calls only one succeeds.
  const { affectedRows } = await database.change(`DELETE FROM ${table} WHERE tokenHash = ?`, [hashKey(token)]);
  if (affectedRows !== 1) throw refused();
  await database.run(`DELETE FROM ${table} WHERE ${owner} = ?`, [row.id]);
  return account;
}

/** The text of the mail. */
export const linkMail = (what: string, address: string) => ({
  subject: `A new password for ${what}`,
  text: `A new password was requested for ${what}, for the account with this mail address.\n\nSet it here, within an hour:\n${address}\n\nThe address works once. If this was not you, ignore this mail: the password stays the same.\n`,
});
