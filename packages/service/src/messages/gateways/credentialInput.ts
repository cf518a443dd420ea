/** The credential in a request, read by the kind of gateway it is for. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { GatewayMapping } from '@orchard/core/messages';
import type { Config } from '../../platform/config.js';
import { type ClientFacts, type KeyFinder, readClientCertificate, readServiceAccount, readSigningKey } from './credentials.js';
import type { Secrets } from './gatewayDirectory.js';
import type { Parts } from './parts.js';

/** `request` is the signing request that a certificate answers. */
export type Credential = { secrets: Secrets; text: string; expiresAt: Date | null; project?: string; request?: string | null };
export type CredentialInput = { certificate?: string | undefined; keyFile?: string | undefined; password?: string | undefined };

/**
 * A credential is sent only over an encrypted connection.
 * @throws {Problem} invalid-input
 */
export function demandSafe({ pushOrigins }: Pick<Config, 'pushOrigins'>, address: string, path: string): void {
  const { protocol, origin } = new URL(address);
  if (protocol === 'https:' || pushOrigins.includes(origin)) return;
  throw new Problem(
    'invalid-input',
    `${origin} is not https: the credential could be read in transit. For a network on this machine, list its origin in ORCHARD_PUSH_ORIGINS.`,
    {
      fields: [{ path, problem: 'It is not https.', expected: 'an https address' }],
    },
  );
}

/** @throws {Problem} invalid-input, saying what is wrong with the file and which one it must be */
export async function readCredential(
  parts: Pick<Parts, 'config' | 'now'>,
  kind: string,
  stage: string,
  settings: JsonObject,
  input: CredentialInput,
  mapping: GatewayMapping | null,
  client: ClientFacts,
  keyFor: KeyFinder,
): Promise<Credential> {
  if (kind === 'certificate') {
    const file = Buffer.from(input.certificate ?? '', 'base64');
    const { key, certificates, text, expiresAt, request } = await readClientCertificate(
      file,
      input.password ?? '',
      mapping as GatewayMapping,
      client,
      stage,
      parts.now(),
      keyFor,
    );
    return { secrets: { kind: 'certificate', key, certificates }, text, expiresAt, request };
  }
  if (kind !== 'token')
    return {
      secrets: { kind: 'password', password: input.password ?? '' },
      text: input.password ? 'A password.' : 'No password.',
      expiresAt: null,
    };
  const token = mapping?.token;
  if (token?.by === 'exchanged') {
    const account = readServiceAccount(input.keyFile ?? '', token, client);
    demandSafe(parts.config, account.tokenAddress, 'body.keyFile');
    return {
      secrets: { kind: 'token', account },
      text: `Service account ${account.account} of project ${account.project}.`,
      expiresAt: null,
      project: account.project,
    };
  }
  const key = readSigningKey(input.keyFile ?? '');
  const pem = key.export({ type: 'pkcs8', format: 'pem' }) as string;
  return {
    secrets: { kind: 'token', key: pem },
    text: `Signing key${settings.keyId ? ` ${settings.keyId}` : ''} on P-256.`,
    expiresAt: null,
  };
}
