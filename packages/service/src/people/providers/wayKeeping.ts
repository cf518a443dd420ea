/** Ways as the team sets them up: checked, sealed, stored, and shown without their secrets. */
import { type NewSignInWay, Problem, type SignInWayDocument } from '@orchard/contract';
import { own } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';
import type { OutsideWays } from './outsideWays.js';
import { readSamlMetadata } from './samlXml.js';
import { makeSelfSigned } from './selfSigned.js';
import { isVisited, namedWay, sealSecret, type Secrets, type SignInWay, signInWays } from './ways.js';

type Ground = Pick<Platform, 'now'>;
type Ways = Record<string, SignInWay>;

export function presentWay(outside: OutsideWays, environment: Environment, name: string, way: SignInWay): SignInWayDocument {
  const { secret, key: _key, certificate: _certificate, ...settings } = way as SignInWay & Secrets;
  return {
    ...settings,
    name,
    hasSecret: secret !== null && secret !== undefined,
    redirectAddress: isVisited(way) ? outside.redirectAddress(environment, name) : null,
    metadataAddress: way.kind === 'saml' ? outside.metadataAddress(environment, name) : null,
  } as SignInWayDocument;
}

export async function changeWays({ now }: Ground, environment: Environment, how: (ways: Ways) => Ways): Promise<void> {
  signInWays.forget(environment);
  const { ways } = await signInWays.read(environment);
  await signInWays.write(environment, { ways: how(ways) }, new Date(now()));
}

/** @throws {Problem} invalid-input */
export async function storeWay(ground: Ground, environment: Environment, name: string, wanted: NewSignInWay): Promise<SignInWay> {
  demandUsable(wanted);
  const before = own((await signInWays.read(environment)).ways, name);
  const way = await sealed(ground, environment, name, wanted, before);
  await changeWays(ground, environment, (ways) => ({ ...ways, [name]: way }));
  return way;
}

/** @throws {Problem} not-found */
export async function dropWay(ground: Ground, environment: Environment, name: string): Promise<void> {
  await namedWay(environment, name);
  await changeWays(ground, environment, ({ [name]: _gone, ...ways }) => ways);
}

function demandUsable(way: NewSignInWay): void {
  if (way.kind !== 'saml') return;
  const read = readSamlMetadata(way.metadata);
  if (typeof read === 'string')
    throw new Problem('invalid-input', read, {
      fields: [{ path: 'body.metadata', problem: read, expected: 'SAML 2.0 metadata of one provider' }],
    });
}

async function sealed(
  { now }: Ground,
  environment: Environment,
  name: string,
  { secret, ...way }: NewSignInWay,
  before: SignInWay | undefined,
): Promise<SignInWay> {
  const kept = before?.secret ?? null;
  const secrets: Secrets = { secret: secret === undefined ? kept : sealSecret(environment, name, secret) };
  if (way.kind !== 'saml') return { ...way, ...secrets } as SignInWay;
  if (before?.key && before.certificate) return { ...way, ...secrets, key: before.key, certificate: before.certificate } as SignInWay;
  const { key, certificate } = await makeSelfSigned(`${environment.app}/${environment.name} ${name}`, now());
  return { ...way, ...secrets, key: sealSecret(environment, name, key), certificate } as SignInWay;
}
