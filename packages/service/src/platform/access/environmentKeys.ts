/**
 * The keys of an environment, wrapped by the installation's secret key: they seal its credentials and sign its tokens,
 * so that an environment can be moved to another installation with all it holds.
 */
import { deriveKey, seal, unseal } from './secrets.js';

export type EnvironmentKeys = {
  /** Seals credentials. */
  data: Buffer;
  /** Signs the tokens of its users. */
  tokens: Buffer;
};

/** The id of a new environment: it names its database. */
export const newEnvironmentId = (random: (bytes: number) => Buffer): string =>
  [...random(10)].map((byte) => 'abcdefghijklmnopqrstuvwxyz234567'[byte & 31]).join('');

export const newEnvironmentKeys = (random: (bytes: number) => Buffer): EnvironmentKeys => ({ data: random(32), tokens: random(32) });

/** The signing key from before environments had their own: tokens signed with it stay valid. */
export const formerEnvironmentKeys = (secretKey: Buffer, environmentId: string): EnvironmentKeys => ({
  data: secretKey,
  tokens: deriveKey(secretKey, `user-tokens:${environmentId}`),
});

const contextOf = (environmentId: string) => `environment:${environmentId}`;

export function sealEnvironmentKeys(secretKey: Buffer, environmentId: string, { data, tokens }: EnvironmentKeys): string {
  return seal(secretKey, contextOf(environmentId), Buffer.concat([data, tokens]));
}

/** @throws Error when the secret key is another one */
export function unsealEnvironmentKeys(secretKey: Buffer, environmentId: string, sealed: string): EnvironmentKeys {
  const both = unseal(secretKey, contextOf(environmentId), sealed);
  return { data: both.subarray(0, 32), tokens: both.subarray(32) };
}
