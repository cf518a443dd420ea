/** One-time addresses in mails about accounts: where they lead, and whose they are. */
import { Problem } from '@orchard/contract';
import type { AccountMail } from '@orchard/core/accounts';
import { type LinkTable, makeLink, takeLink } from '../../platform/access/oneTimeLinks.js';
import type { Environment } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import { entryRules } from '../users/entry.js';
import type { Parts } from './parts.js';
import { userLinkTable } from './tables.js';

const HOUR_MS = 3_600_000;
export const LINK_LIFE_MS = {
  'confirm-address': 24 * HOUR_MS,
  'new-password': HOUR_MS,
  'change-address': 24 * HOUR_MS,
  invitation: 168 * HOUR_MS,
  'sign-in-link': HOUR_MS / 6,
} satisfies Partial<Record<AccountMail, number>>;
export type LinkKind = keyof typeof LINK_LIFE_MS;

/** The pages of this service that take a token; a sign-in belongs into the app. */
const PAGES: Partial<Record<LinkKind, string>> = {
  'confirm-address': '/confirm-email',
  'change-address': '/confirm-email',
  'new-password': '/new-password',
  invitation: '/new-password',
};

const tableOf = ({ db }: Environment, kind: LinkKind): LinkTable => ({ table: db.of(userLinkTable), owner: 'userId', kind });
const ground = (parts: Parts, { db }: Environment) => ({ database: db, now: parts.now, random: parts.random });

/** A fresh one-time address; null when too many are open. */
export async function makeAddress(
  parts: Parts,
  environment: Environment,
  kind: LinkKind,
  userId: string,
  detail: string | null = null,
): Promise<string | null> {
  const link = await makeLink(ground(parts, environment), tableOf(environment, kind), userId, { lifeMs: LINK_LIFE_MS[kind], detail });
  if (!link) return null;
  // It names its environment: an address is opened without a key.
  const token = `${environment.id}.${link.token}`;
  const { linkAddress } = await entryRules.read(environment);
  return linkAddress
    ? linkAddress.replaceAll('{token}', encodeURIComponent(token)).replaceAll('{kind}', kind)
    : `${parts.address()}${PAGES[kind] ?? '/sign-in'}?of=user&token=${token}`;
}

/** A user is removed, in this transaction. */
export async function removeLinks(on: Statements, { db }: Environment, userId: string): Promise<void> {
  await on.change(`DELETE FROM ${db.of(userLinkTable)} WHERE userId = ?`, [userId]);
}

/** The environment and the secret of a token. @throws {Problem} link-refused */
export async function readToken(parts: Parts, given: string): Promise<{ environment: Environment; token: string }> {
  const [id = '', token = ''] = given.split('.');
  const environment = await parts.directory.hereById(id);
  if (!environment) throw new Problem('link-refused');
  return { environment, token };
}

/**
 * Uses up a token of one of these kinds.
 * @param fits called before that; if it throws, the token stays valid
 * @throws {Problem} link-refused
 */
export async function takeToken<Account>(
  parts: Parts,
  environment: Environment,
  kinds: readonly LinkKind[],
  token: string,
  fits: (userId: string, detail: string | null, kind: LinkKind) => Promise<Account>,
): Promise<Account> {
  for (const kind of kinds) {
    try {
      return await takeLink(ground(parts, environment), tableOf(environment, kind), token, (userId, detail) => fits(userId, detail, kind));
    } catch (error) {
      const isLast = kind === kinds.at(-1);
      if (isLast || !(error instanceof Problem) || error.problem !== 'link-refused') throw error;
    }
  }
  throw new Problem('link-refused');
}
