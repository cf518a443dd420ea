/** One-time addresses at which a password is set anew: for an hour, and a few at a time only. */
import { Problem } from '@orchard/contract';
import { formatKey, readKey } from '@orchard/core';
import type { Statements } from '../database/connection.js';
import { hashKey } from './secrets.js';

const LIFE_MS = 3_600_000;
const MOST_OPEN = 5;

type Ground = { database: Statements; now: () => number; random: (bytes: number) => Buffer };
/** Where they are kept, and the column that names whose they are. */
export type LinkTable = { table: string; owner: 'userId' | 'memberId' };

/** A fresh token; null when so many are open that another would only be a nuisance. */
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
 * Uses a token up, and with it every other one of the same account.
 * @param fits told whose it is before that; what it throws leaves the token good, for a better password
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
  // Whoever deletes it has it: of two at the same moment only one does.
  const { affectedRows } = await database.change(`DELETE FROM ${table} WHERE tokenHash = ?`, [hashKey(token)]);
  if (affectedRows !== 1) throw refused();
  await database.run(`DELETE FROM ${table} WHERE ${owner} = ?`, [row.id]);
  return account;
}

/** The words of the mail. */
export const linkMail = (what: string, address: string) => ({
  subject: `A new password for ${what}`,
  text: `Somebody asked for a new password for ${what}, for the account with this mail address.\n\nSet it here, within an hour:\n${address}\n\nThe address works once. If it was not you, there is nothing to do: the password stays as it is.\n`,
});
