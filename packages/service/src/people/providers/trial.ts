/** Trying a way with somebody: what came of each step. Nobody is signed in by it, and nothing is kept. */
import { Problem, type WaySteps } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import { OtherAccount } from './meeting.js';
import type { OutsideWays } from './outsideWays.js';
import type { OutsidePerson } from './person.js';
import { type Walk, walked, groupWords } from './walk.js';
import type { SignInWay } from './ways.js';

/** @param come who came back, or why the answer is not accepted */
export function tryWay(
  outside: OutsideWays,
  environment: Environment,
  name: string,
  way: SignInWay,
  come: { query: URLSearchParams; person: OutsidePerson } | { query: URLSearchParams; refused: Error },
): Promise<WaySteps> {
  return walked(async (walk) => {
    walk.pass('return', returnWords(come.query, outside.redirectAddress(environment, name)));
    if ('refused' in come) return walk.fail('answer', come.refused.message);
    walk.pass('answer', answerWords(way));
    await tellPerson(walk, outside, environment, way, come.person);
    await takeBack(outside, environment, name, way, come.person);
  });
}

function returnWords(query: URLSearchParams, redirectAddress: string): string {
  const error = query.get('error');
  const what = error ? `the error ${error}` : query.has('code') ? 'a code' : 'a response';
  return `The browser came back to ${redirectAddress} with ${what}.`;
}

function answerWords(way: SignInWay): string {
  switch (way.kind) {
    case 'openid':
      return `The provider gave tokens for the code. The ID token is signed by ${way.issuer}, for ${way.clientId}, and belongs to this visit.`;
    case 'oauth':
      return `The provider gave a token for the code, and ${way.personAddress} said who it is.`;
    default:
      return 'The assertion is signed by a certificate of the metadata, names us as its audience, and answers our request.';
  }
}

/** Who it is, what the groups give, and which account the person would get. */
export async function tellPerson(
  walk: Walk,
  outside: OutsideWays,
  environment: Environment,
  way: SignInWay,
  person: OutsidePerson,
): Promise<void> {
  walk.pass('person', personWords(person));
  const waited = Object.keys(way.roles);
  if (person.groups.length > 0) walk.pass('groups', groupWords(way, person.groups));
  else if (waited.length > 0)
    walk.fail(
      'groups',
      `The provider names no group of this person, and \`roles\` waits for ${waited.join(', ')}. ${GROUPS_ADVICE[way.kind]}`,
    );
  walk.pass('account', await accountWords(walk, outside, environment, person));
}

const GROUPS_ADVICE: Record<SignInWay['kind'], string> = {
  openid: 'Ask for the scope that gives them, or set `groupsClaim` to what the provider calls them.',
  oauth: 'Set `claims.groups` to what the provider calls them.',
  saml: 'Let the provider send them, or set `attributes.groups` to what it calls them.',
  directory: 'Look at `groups.filter`.',
  tokens: 'Set `claims.groups` to what the issuer calls them.',
};

function personWords({ subject, email, emailProved, name }: OutsidePerson): string {
  const address = email === null ? 'no mail address' : `${email}, which the provider ${emailProved ? 'vouches for' : 'does not vouch for'}`;
  return `${name ?? 'no name'}; ${address}; the provider’s id ${subject}`;
}

async function accountWords(walk: Walk, outside: OutsideWays, environment: Environment, person: OutsidePerson): Promise<string> {
  const met = await outside.meeting.meet(environment, person).catch((error: unknown) => walk.fail('account', refusalWords(error)));
  const { user, by, email } = met;
  if (user) {
    const account = user.email ?? user.name ?? user.id;
    return by === 'account' ? `signs in to ${account}, as before` : `signs in to ${account}: both ways have proved the address`;
  }
  return email ? `a new account with ${email}` : 'a new account without a mail address';
}

function refusalWords(error: unknown): string {
  if (error instanceof OtherAccount)
    return 'There is an account with this address that has not confirmed it: the person is asked to sign in to it first.';
  if (!(error instanceof Problem)) throw error;
  return error.problem === 'sign-in-refused' ? 'The account of this person is disabled.' : error.detail;
}

/** What the provider gave for the trial is given back, where it takes it. */
async function takeBack(outside: OutsideWays, environment: Environment, name: string, way: SignInWay, { tokens }: OutsidePerson) {
  if (!tokens || (way.kind !== 'openid' && way.kind !== 'oauth')) return;
  await outside.openid.revoke(environment, name, way, tokens).catch(() => undefined);
}
