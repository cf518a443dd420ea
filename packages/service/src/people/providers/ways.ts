/** Ways to sign in at providers outside, as they are kept. */
import { Problem, type SignInWaySettings } from '@orchard/contract';
import { seal, unseal } from '../../platform/access/secrets.js';
import type { Environment } from '../../platform/call.js';
import { Settings } from '../../platform/settings/settingStore.js';

/** Secrets are sealed. */
export type Secrets = {
  secret: string | null;
  /** Of SAML: our own private key for this way, and its certificate. */
  key?: string;
  certificate?: string;
};
export type SignInWay = SignInWaySettings & Secrets;
export type WayOf<Kind extends SignInWay['kind']> = Extract<SignInWay, { kind: Kind }>;
export const signInWays = new Settings<{ ways: Record<string, SignInWay> }>('sign-in ways', () => ({ ways: {} }));

const contextOf = ({ sealedFor: id }: Environment, way: string): string => `sign-in way ${id} ${way}`;
export const sealSecret = (environment: Environment, way: string, secret: string): string =>
  seal(environment.keys.data, contextOf(environment, way), secret);
export const openSecret = (environment: Environment, way: string, sealed: string): string =>
  unseal(environment.keys.data, contextOf(environment, way), sealed).toString();

/** What every way has, for those that were stored before it could be set. */
const DEFAULTS = { clients: [], roles: {} };
const OPENID_DEFAULTS = { kind: 'openid', groupsClaim: 'groups', nativeClientIds: [], endpoints: null, keepTokens: false };

const complete = (way: SignInWay): SignInWay =>
  ({ ...DEFAULTS, ...((way.kind ?? 'openid') === 'openid' ? OPENID_DEFAULTS : {}), ...way }) as SignInWay;

export async function allWays(environment: Environment): Promise<[name: string, way: SignInWay][]> {
  const { ways } = await signInWays.read(environment);
  return Object.entries(ways).map(([name, way]) => [name, complete(way)]);
}

/** @throws {Problem} not-found */
export async function namedWay(environment: Environment, name: string): Promise<SignInWay> {
  const way = (await allWays(environment)).find(([one]) => one === name)?.[1];
  if (!way) throw new Problem('not-found', `There is no way to sign in called \`${name}\`. \`orchard sign-in-way list\` lists them.`);
  return way;
}

/** Those that a client may use. */
export const waysOfClient = async (environment: Environment, client: string): Promise<[name: string, way: SignInWay][]> =>
  (await allWays(environment)).filter(([, { clients }]) => clients.length === 0 || clients.includes(client));

/** @throws {Problem} not-found, also for a way that the client may not use */
export async function wayForClient<Kind extends SignInWay['kind']>(
  environment: Environment,
  client: string,
  name: string,
  kinds: readonly Kind[],
): Promise<WayOf<Kind>> {
  const found = (await waysOfClient(environment, client)).find(([one]) => one === name)?.[1];
  if (!found || !(kinds as readonly string[]).includes(found.kind))
    throw new Problem('not-found', `Client ${client} may not use the way ${name} for this.`);
  return found as WayOf<Kind>;
}

/** Ways that begin with a visit to the provider. */
export const isVisited = ({ kind }: SignInWay): boolean => kind === 'openid' || kind === 'oauth' || kind === 'saml';
