/** Who may have an account, and from which versions of the apps people get in. */
import { type EntryRules, Problem } from '@orchard/contract';
import { compareVersions, own, versionOf } from '@orchard/core';
import { type Call, type Environment, explainsRefusals } from '../../platform/call.js';
import { Guesses, USUAL_LIMITS } from '../../platform/access/guesses.js';
import { USUAL_POLICY } from '../../platform/access/passwords.js';
import { guessTable } from '../../platform/access/tables.js';
import type { Platform } from '../../platform/platform.js';
import { Settings } from '../../platform/settings/settingStore.js';

export const entryRules = new Settings<EntryRules>('entry', () => ({
  signUp: 'open',
  domains: [],
  guests: false,
  confirm: 'never',
  codeByMail: false,
  codeBySms: false,
  linkByMail: false,
  linkAddress: null,
  ...USUAL_POLICY,
  ...USUAL_LIMITS,
  mostSessions: null,
  terms: null,
  leastVersions: {},
  redirects: {},
  passkeyDomain: null,
  passkeyOrigins: [],
  graceDays: 0,
  tellNewSignIn: false,
  tellDeleted: false,
}));

/** Failed sign-ins of an environment's users, by the limits of its team. */
export async function guessesAt({ now }: Pick<Platform, 'now'>, environment: Environment): Promise<Guesses> {
  const { db } = environment;
  return new Guesses(db, now, db.of(guessTable), await entryRules.read(environment));
}

/** What signs in: a client, in a version where it tells one. */
export type Caller = { client: string; version: string | null; address: string; locale: string };

export const callerOf = ({ holder, headers, request }: Pick<Call, 'holder' | 'headers' | 'request'>): Caller => ({
  client: holder?.client.name ?? '',
  version: versionOf(headers['user-agent'] ?? ''),
  address: request.ip ?? '',
  locale: localeOf(headers['accept-language']),
});

/** The first language of the header (RFC 9110 section 12.5.4). */
const localeOf = (header: string | undefined): string => /^\s*([A-Za-z]{2,3}(-[A-Za-z0-9]{2,8})*)/.exec(header ?? '')?.[1] ?? 'en';

/** @throws {Problem} access-refused, invalid-input */
export async function demandSignUp(
  environment: Environment,
  { email, terms }: { email: string; terms?: string | undefined },
  { isOutside = false } = {},
): Promise<void> {
  const rules = await entryRules.read(environment);
  const place = `${environment.app}/${environment.name}`;
  const mayAsk = rules.signUp === 'domains' ? rules.domains.includes(email.split('@').at(-1) ?? '') : rules.signUp === 'open';
  if (!mayAsk) {
    const who = { domains: 'for the mail addresses of some domains', invited: 'by invitation', closed: 'closed', open: 'open' }[
      rules.signUp
    ];
    const named = rules.signUp === 'domains' && explainsRefusals(environment) ? ` (${rules.domains.join(', ')})` : '';
    throw new Problem('access-refused', `Signing up to ${place} is ${who}${named}.`);
  }
  // A provider outside cannot accept our terms; the app asks for that afterwards.
  if (!isOutside && rules.terms !== null && terms !== rules.terms)
    throw new Problem('invalid-input', `The terms of version ${rules.terms} must be accepted to sign up.`, {
      fields: [
        {
          path: 'body.terms',
          problem: terms === undefined ? 'It is missing.' : 'It is another version.',
          expected: `"${rules.terms}", once the person has accepted it`,
        },
      ],
    });
}

/** @throws {Problem} access-refused */
export async function demandGuests(environment: Environment): Promise<void> {
  if (!(await entryRules.read(environment)).guests)
    throw new Problem('access-refused', `${environment.app}/${environment.name} has no guests: people sign up first.`);
}

/** @throws {Problem} app-outdated */
export async function demandVersion(environment: Environment, { client, version }: Caller): Promise<void> {
  const least = own((await entryRules.read(environment)).leastVersions, client);
  if (least === undefined || (version !== null && compareVersions(version, least) >= 0)) return;
  throw new Problem(
    'app-outdated',
    `${client} signs in from version ${least} on; this is ${version === null ? 'one that tells no version in its user agent' : version}.`,
  );
}
