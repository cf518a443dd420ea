/** Somebody as a provider outside names them. */
import { createHash } from 'node:crypto';
import { isPlainObject } from '@orchard/core';
import { readMailAddress } from '@orchard/core/words';

export type ProviderTokens = {
  accessToken: string;
  refreshToken: string | null;
  /** Milliseconds since 1970; null where the provider does not say. */
  expiresAt: number | null;
};

export type OutsidePerson = {
  /** Who says so, and what stays the same for the person there. */
  issuer: string;
  subject: string;
  email: string | null;
  /** Whether the provider vouches for the address. */
  emailProved: boolean;
  name: string | null;
  groups: string[];
  tokens?: ProviderTokens | undefined;
};

type ClaimNames = { id: string; email: string; emailProved: string; name: string; groups: string };
export const STANDARD_CLAIMS: ClaimNames = { id: 'sub', email: 'email', emailProved: 'email_verified', name: 'name', groups: 'groups' };

/** @throws {Error} when what names the person is missing */
export function personOf(issuer: string, claims: unknown, names: ClaimNames): OutsidePerson {
  const found = isPlainObject(claims) ? claims : {};
  const subject = found[names.id];
  if ((typeof subject !== 'string' && typeof subject !== 'number') || subject === '')
    throw new Error(`What the provider says of the person has no \`${names.id}\`; it has ${Object.keys(found).join(', ') || 'nothing'}.`);
  const email = found[names.email];
  const name = found[names.name];
  return {
    issuer,
    subject: String(subject),
    email: typeof email === 'string' ? readMailAddress(email) : null,
    emailProved: found[names.emailProved] === true || found[names.emailProved] === 'true',
    name: typeof name === 'string' && name.trim() ? name.trim().slice(0, 200) : null,
    groups: textsOf(found[names.groups]),
  };
}

/** One text, or a list of them. */
export const textsOf = (value: unknown): string[] =>
  (Array.isArray(value) ? value : value === undefined ? [] : [value]).filter((one): one is string => typeof one === 'string');

/** As people recognise the account at the provider. */
export const accountName = ({ email, name, subject }: OutsidePerson): string => (email ?? name ?? subject).slice(0, 254);

/** What ways without claims know of somebody. */
export const namedPerson = (
  issuer: string,
  subject: string,
  email: string | null,
  name: string | null,
): Omit<OutsidePerson, 'emailProved' | 'groups'> => ({
  issuer,
  subject,
  email: email === null ? null : readMailAddress(email),
  name: name?.trim() ? name.trim().slice(0, 200) : null,
});

/** Names the account at a provider among all accounts: a subject is unique within its issuer alone. */
export const identifierOf = ({ issuer, subject }: OutsidePerson): string =>
  createHash('sha256')
    .update(JSON.stringify([issuer, subject]))
    .digest('base64url');
