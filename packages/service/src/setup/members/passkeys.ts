/** Passkeys (WebAuthn Level 3). A passkey that verifies its user stands for password and second factor. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import {
  type AuthenticationResponseJSON,
  type AuthenticatorTransport,
  generateAuthenticationOptions,
  generateRegistrationOptions,
  type RegistrationResponseJSON,
  verifyAuthenticationResponse,
  verifyRegistrationResponse,
} from '@simplewebauthn/server';
import { isIP } from 'node:net';
import { hashKey } from '../../platform/access/secrets.js';
import { type FactorRow, FactorStore } from './factorStore.js';
import type { Parts } from './parts.js';

const CHALLENGE_MS = 5 * 60_000;

/** The site that passkeys belong to (section 5.1.3: its id is a host name, and never an IP address). */
type Site = { id: string; origin: string };

/** @returns the site, or why there is none */
function siteOf({ address }: Pick<Parts, 'address'>): Site | string {
  const { protocol, hostname, port, origin } = new URL(address());
  const isLoopback = ['127.0.0.1', '[::1]', 'localhost'].includes(hostname);
  if (isLoopback) return { id: 'localhost', origin: `${protocol}//localhost${port && `:${port}`}` };
  if (isIP(hostname.replace(/^\[|\]$/g, '')))
    return `Passkeys need a host name; this installation is at ${origin}. Set ORCHARD_PUBLIC_URL.`;
  if (protocol !== 'https:') return `Passkeys need https; this installation is at ${origin}. Set ORCHARD_PUBLIC_URL.`;
  return { id: hostname, origin };
}

/** Why passkeys cannot be used here; null where they can. */
export function passkeysMissing(parts: Pick<Parts, 'address'>): string | null {
  const site = siteOf(parts);
  return typeof site === 'string' ? site : null;
}

/** @throws {Problem} wrong-state */
function demandSite(parts: Pick<Parts, 'address'>): Site {
  const site = siteOf(parts);
  if (typeof site === 'string') throw new Problem('wrong-state', site);
  return site;
}

const refused = (why: string) => new Problem('second-factor-refused', why);
const documentOf = (options: object): { publicKey: JsonObject } => ({ publicKey: JSON.parse(JSON.stringify(options)) as JsonObject });

async function open(parts: Parts, challenge: string, memberId: string | null): Promise<void> {
  const now = parts.now();
  await new FactorStore(parts.database).openChallenge(hashKey(challenge), memberId, new Date(now + CHALLENGE_MS), new Date(now));
}

/** Options for creating a passkey. @throws {Problem} wrong-state */
export async function beginPasskey(parts: Parts, member: { id: string; email: string; name: string }): Promise<{ publicKey: JsonObject }> {
  const site = demandSite(parts);
  const known = (await new FactorStore(parts.database).confirmed(member.id)).filter(({ kind }) => kind === 'passkey');
  const options = await generateRegistrationOptions({
    rpName: 'Vivid Orchard',
    rpID: site.id,
    userID: new TextEncoder().encode(member.id),
    userName: member.email,
    userDisplayName: member.name,
    attestationType: 'none',
    excludeCredentials: known.map(({ credentialId }) => ({ id: credentialId as string })),
    // Found by the browser without a mail address, and unlocked by its owner: two factors in one.
    authenticatorSelection: { residentKey: 'required', userVerification: 'required' },
  });
  await open(parts, options.challenge, member.id);
  return documentOf(options);
}

/** Checks a passkey that was created. @throws {Problem} second-factor-refused */
export async function readNewPasskey(parts: Parts, memberId: string, passkey: JsonObject): Promise<Partial<FactorRow>> {
  const site = demandSite(parts);
  const challenge = await takeChallenge(parts, site, passkey, memberId);
  const { registrationInfo } = await checking(() =>
    verifyRegistrationResponse({
      response: passkey as unknown as RegistrationResponseJSON,
      expectedChallenge: challenge,
      expectedOrigin: site.origin,
      expectedRPID: site.id,
      requireUserVerification: true,
    }),
  );
  if (!registrationInfo) throw refused('The passkey could not be verified. Create it again.');
  const { id, publicKey, counter, transports } = registrationInfo.credential;
  return {
    credentialHash: hashKey(id),
    credentialId: id,
    publicKey: Buffer.from(publicKey).toString('base64url'),
    counter,
    transports: transports ?? [],
  };
}

/** Options for using a passkey. @throws {Problem} wrong-state */
export async function challengePasskey(parts: Parts): Promise<{ publicKey: JsonObject }> {
  const options = await generateAuthenticationOptions({ rpID: demandSite(parts).id, userVerification: 'required' });
  await open(parts, options.challenge, null);
  return documentOf(options);
}

/**
 * The factor whose passkey was used.
 * @throws {Problem} second-factor-refused, that says why: of another site, unknown, used before
 */
export async function usePasskey(parts: Parts, passkey: JsonObject): Promise<FactorRow> {
  const site = demandSite(parts);
  const store = new FactorStore(parts.database);
  const challenge = await takeChallenge(parts, site, passkey, null);
  const factor = typeof passkey.id === 'string' ? await store.byCredential(hashKey(passkey.id)) : undefined;
  if (!factor?.publicKey || !factor.credentialId)
    throw refused('This passkey is not known here. It may have been removed, or be one of another installation.');
  const { publicKey, credentialId, counter, transports } = factor;
  const { verified, authenticationInfo } = await checking(() =>
    verifyAuthenticationResponse({
      response: passkey as unknown as AuthenticationResponseJSON,
      expectedChallenge: challenge,
      expectedOrigin: site.origin,
      expectedRPID: site.id,
      credential: {
        id: credentialId,
        publicKey: new Uint8Array(Buffer.from(publicKey, 'base64url')),
        counter,
        transports: (transports ?? []) as AuthenticatorTransport[],
      },
      requireUserVerification: true,
    }),
  );
  if (!verified) throw refused('The passkey could not be verified. Try again.');
  await store.notePasskeyUse(factor.id, authenticationInfo.newCounter, new Date(parts.now()));
  return factor;
}

/**
 * The challenge of a response, used up; whose page it was signed on is checked first, to name it.
 * @throws {Problem} second-factor-refused
 */
async function takeChallenge(parts: Parts, site: Site, { response }: JsonObject, memberId: string | null): Promise<string> {
  const { challenge, origin } = readClientData(response);
  if (origin !== site.origin)
    throw refused(`The passkey was used on a page of ${String(origin).slice(0, 200)}; this console is ${site.origin}. Open it there.`);
  const owner = await new FactorStore(parts.database).takeChallenge(hashKey(challenge), new Date(parts.now()));
  if (owner === undefined || owner !== memberId)
    throw refused('This response was used already, or it took longer than five minutes. Try again.');
  return challenge;
}

/** Section 5.8.1: the client data is JSON, base64url. */
function readClientData(response: unknown): { challenge: string; origin: string } {
  try {
    const { clientDataJSON } = response as { clientDataJSON: string };
    const { challenge, origin } = JSON.parse(Buffer.from(clientDataJSON, 'base64url').toString()) as Record<string, unknown>;
    if (typeof challenge === 'string' && typeof origin === 'string') return { challenge, origin };
  } catch {
    // Handled below, like client data without these members.
  }
  throw refused('`passkey` must be what navigator.credentials returned, as JSON (PublicKeyCredential.toJSON).');
}

async function checking<T>(check: () => Promise<T>): Promise<T> {
  try {
    return await check();
  } catch (error) {
    throw refused(`The passkey could not be verified: ${(error as Error).message}`);
  }
}
