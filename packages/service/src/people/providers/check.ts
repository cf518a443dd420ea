/** Whether a way can be used: step by step, with words for the mistakes that people make. */
import type { WaySteps } from '@orchard/contract';
import { X509Certificate } from 'node:crypto';
import type { Environment } from '../../platform/call.js';
import { countGroups, findPerson, groupsOf } from './directory.js';
import { discoveryWords } from './openid.js';
import type { OutsideWays } from './outsideWays.js';
import { readSamlMetadata } from './samlXml.js';
import { tellPerson } from './trial.js';
import { groupWords, type Walk, walked } from './walk.js';
import type { SignInWay, WayOf } from './ways.js';

const CLOCK_OFF_MS = 60_000;
const SOON_MS = 30 * 86_400_000;
type Somebody = { user?: string | undefined; password?: string | undefined; token?: string | undefined };

export async function checkWay(
  outside: OutsideWays,
  environment: Environment,
  name: string,
  way: SignInWay,
  now: number,
  somebody: Somebody,
): Promise<WaySteps> {
  return walked((walk) => {
    switch (way.kind) {
      case 'openid':
        return checkOpenId(walk, outside, environment, name, way, now);
      case 'oauth':
        return checkOAuth(walk, outside, environment, name, way, now);
      case 'saml':
        return checkSaml(walk, outside, environment, name, way, now);
      case 'directory':
        return checkDirectory(walk, outside, environment, name, way, somebody);
      case 'tokens':
        return checkTokens(walk, outside, environment, way, now, somebody);
    }
  });
}

async function checkOpenId(walk: Walk, outside: OutsideWays, environment: Environment, name: string, way: WayOf<'openid'>, now: number) {
  outside.openid.forget(environment, name);
  const config = await outside.openid
    .configure(environment, name, way)
    .catch((error: Error) => walk.fail('metadata', discoveryWords(error, way.issuer)));
  const metadata = config.serverMetadata();
  walk.pass('metadata', `${metadata.issuer} says where people sign in: ${metadata.authorization_endpoint}`);
  if (metadata.code_challenge_methods_supported && !metadata.code_challenge_methods_supported.includes('S256'))
    walk.fail('code', 'The provider does not take the challenge of RFC 7636 with S256, without which a stolen code could be used.');
  const missing = way.scopes.filter((scope) => metadata.scopes_supported && !metadata.scopes_supported.includes(scope));
  if (missing.length > 0)
    walk.fail('scopes', `The provider does not know the scopes ${missing.join(', ')}. It knows ${metadata.scopes_supported?.join(', ')}.`);
  if (!way.scopes.includes('openid')) walk.fail('scopes', 'The scope openid is missing: without it, nothing says who signed in.');
  walk.pass('scopes', way.scopes.join(', '));
  await checkClock(walk, outside, way.issuer, now);
  await checkKeys(walk, outside, metadata.jwks_uri);
  walk.pass('address', `List ${outside.redirectAddress(environment, name)} at the provider as a redirect address of ${way.clientId}.`);
}

async function checkOAuth(walk: Walk, outside: OutsideWays, environment: Environment, name: string, way: WayOf<'oauth'>, now: number) {
  try {
    await outside.openid.configure(environment, name, way);
  } catch (error) {
    walk.fail('addresses', (error as Error).message);
  }
  walk.pass('addresses', `People sign in at ${way.authorizeAddress}.`);
  const reply = await outside.http
    .fetch(way.personAddress, { headers: { accept: 'application/json' } })
    .catch((error: Error) => walk.fail('person', `${way.personAddress} cannot be reached: ${((error.cause as Error) ?? error).message}.`));
  // Without a token it has to refuse: an answer would be about nobody, or about anybody.
  if (reply.ok) walk.fail('person', `${way.personAddress} answers ${reply.status} without a token. It cannot be what says who signed in.`);
  walk.pass('person', `${way.personAddress} answers ${reply.status} without a token, as it should.`);
  await checkClock(walk, outside, way.tokenAddress, now);
  walk.pass('address', `List ${outside.redirectAddress(environment, name)} at the provider as a redirect address of ${way.clientId}.`);
}

function checkSaml(walk: Walk, outside: OutsideWays, environment: Environment, name: string, way: WayOf<'saml'>, now: number) {
  const read = readSamlMetadata(way.metadata);
  if (typeof read === 'string') return walk.fail('metadata', read);
  walk.pass(
    'metadata',
    `${read.entityId} takes requests at ${read.redirectAddress ?? read.postAddress}, by ${read.redirectAddress ? 'HTTP-Redirect' : 'HTTP-POST'}.`,
  );
  const ends = read.certificates.map((pem) => ({
    from: Date.parse(new X509Certificate(pem).validFrom),
    until: Date.parse(new X509Certificate(pem).validTo),
  }));
  if (ends.every(({ until }) => until <= now)) walk.fail('certificate', 'The provider’s certificate has expired. Paste its metadata anew.');
  if (ends.every(({ from }) => from > now))
    walk.fail('certificate', 'The provider’s certificate is not valid yet: a clock is off, or it is the next one.');
  const until = Math.max(...ends.map((one) => one.until));
  walk.pass(
    'certificate',
    `valid until ${new Date(until).toISOString().slice(0, 10)}${until - now < SOON_MS ? ', which is soon: ask for the next one' : ''}`,
  );
  walk.pass(
    'address',
    `Give the provider our metadata: ${outside.metadataAddress(environment, name)}. It names our entity id, the same address, and where responses go.`,
  );
}

async function checkDirectory(
  walk: Walk,
  outside: OutsideWays,
  environment: Environment,
  name: string,
  way: WayOf<'directory'>,
  { user, password }: Somebody,
) {
  const { directories } = outside;
  const reached = await directories
    .within(environment, name, way, async (client) => {
      const entry = user === undefined ? null : await findPerson(client, way, user);
      const groups = way.groups ? await countGroups(client, way.groups) : 0;
      return { person: entry?.dn ?? null, groups, ofPerson: entry ? await groupsOf(client, way, entry.dn) : [] };
    })
    .catch((error: Error) => walk.fail('connection', error.message));
  walk.pass('connection', `${way.bindDn} may search at ${new URL(way.address).host}, over TLS.`);
  if (user !== undefined && !reached.person)
    walk.fail('person', `The filter ${way.filter} fits nobody with the name ${user} below ${way.base}.`);
  if (reached.person) walk.pass('person', reached.person);
  if (way.groups && reached.groups === 0)
    walk.fail('groups', `There is no group below ${way.groups.base}: \`groups.base\` or \`groups.name\` is wrong.`);
  if (reached.person && way.groups) {
    if (reached.ofPerson.length === 0)
      walk.fail('groups', `The filter ${way.groups.filter} finds no group of ${user}, of ${reached.groups} there are.`);
    walk.pass('groups', groupWords(way, reached.ofPerson));
  } else if (way.groups) walk.pass('groups', `${reached.groups} below ${way.groups.base}`);
  if (user === undefined || password === undefined) return;
  const person = await directories
    .signIn(environment, name, way, user, password)
    .catch((error: Error) => walk.fail('password', error.message));
  if (!person) walk.fail('password', `The directory refuses this password for ${user}.`);
  walk.pass('password', `${user} may sign in.`);
}

async function checkTokens(
  walk: Walk,
  outside: OutsideWays,
  environment: Environment,
  way: WayOf<'tokens'>,
  now: number,
  { token }: Somebody,
) {
  await checkKeys(walk, outside, way.keysAddress);
  await checkClock(walk, outside, way.keysAddress, now);
  if (token === undefined) return;
  const person = await outside.foreign.readToken(way, token).catch((error: Error) => walk.fail('token', error.message));
  walk.pass('token', `signed by ${person.issuer}, for ${way.audience}`);
  await tellPerson(walk, outside, environment, way, person);
}

async function checkKeys(walk: Walk, outside: OutsideWays, address: string | undefined) {
  if (!address) return walk.fail('keys', 'The provider publishes no keys, so no token of it could be checked.');
  const count = await outside.foreign
    .keysFound(address)
    .catch((error: Error) => walk.fail('keys', `${address} has no keys: ${((error.cause as Error) ?? error).message}.`));
  if (count === 0) walk.fail('keys', `${address} lists no key.`);
  walk.pass('keys', `${count} at ${address}`);
}

async function checkClock(walk: Walk, outside: OutsideWays, address: string, now: number) {
  const offMs = await outside.http.clockOff(address, now);
  if (offMs !== null && Math.abs(offMs) > CLOCK_OFF_MS)
    walk.fail('clock', `The clock of the provider is ${Math.round(offMs / 1000)} s off from ours: its tokens would be refused.`);
}
