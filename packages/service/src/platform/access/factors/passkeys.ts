/** Passkeys (WebAuthn Level 3). A passkey that verifies its user stands for password and second factor. */
import { isIP } from 'node:net';
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
import { hashKey } from '../secrets.js';
import type { FactorRow, FactorStore } from './factorStore.js';

const CHALLENGE_MS = 5 * 60_000;

/** The site that passkeys belong to (section 5.1.3: its id is a host name, and never an IP address), and the pages and apps that use them. */
export type Site = { id: string; name: string; origins: readonly string[] };

/** The site at an address of this service, or why there is none. */
export function siteAt(address: string, name: string): Site | string {
  const { protocol, hostname, port, origin } = new URL(address);
  const isLoopback = ['127.0.0.1', '[::1]', 'localhost'].includes(hostname);
  if (isLoopback) return { id: 'localhost', name, origins: [`${protocol}//localhost${port && `:${port}`}`] };
  if (isIP(hostname.replace(/^\[|\]$/g, '')))
    return `Passkeys need a host name; this installation is at ${origin}. Set ORCHARD_PUBLIC_URL.`;
  // A name below localhost is this machine (RFC 6761 section 6.3), which browsers trust without TLS.
  if (protocol !== 'https:' && !hostname.endsWith('.localhost'))
    return `Passkeys need https; this installation is at ${origin}. Set ORCHARD_PUBLIC_URL.`;
  return { id: hostname, name, origins: [origin] };
}

const refused = (why: string) => new Problem('second-factor-refused', why);
const documentOf = (options: object): { publicKey: JsonObject } => ({ publicKey: JSON.parse(JSON.stringify(options)) as JsonObject });

/** Passkeys of one site. */
export class Passkeys {
  constructor(private readonly ground: { store: FactorStore; site: Site | string; now: () => number }) {}

  /** Why passkeys cannot be used here; null where they can. */
  get missing(): string | null {
    return typeof this.ground.site === 'string' ? this.ground.site : null;
  }

  /** @throws {Problem} wrong-state */
  #site(): Site {
    const { site } = this.ground;
    if (typeof site === 'string') throw new Problem('wrong-state', site);
    return site;
  }

  async #open(challenge: string, ownerId: string | null): Promise<void> {
    const now = this.ground.now();
    await this.ground.store.openChallenge(hashKey(challenge), ownerId, new Date(now + CHALLENGE_MS), new Date(now));
  }

  /** Options for creating a passkey. @throws {Problem} wrong-state */
  async begin(owner: { id: string; email: string; name: string }): Promise<{ publicKey: JsonObject }> {
    const site = this.#site();
    const known = (await this.ground.store.confirmed(owner.id)).filter(({ kind }) => kind === 'passkey');
    const options = await generateRegistrationOptions({
      rpName: site.name,
      rpID: site.id,
      userID: new TextEncoder().encode(owner.id),
      userName: owner.email,
      userDisplayName: owner.name,
      attestationType: 'none',
      excludeCredentials: known.map(({ credentialId }) => ({ id: credentialId as string })),
      // Found by the browser without a mail address, and unlocked by its owner: two factors in one.
      authenticatorSelection: { residentKey: 'required', userVerification: 'required' },
    });
    await this.#open(options.challenge, owner.id);
    return documentOf(options);
  }

  /** Checks a passkey that was created. @throws {Problem} second-factor-refused */
  async readNew(ownerId: string, passkey: JsonObject): Promise<Partial<FactorRow>> {
    const site = this.#site();
    const challenge = await this.#takeChallenge(site, passkey, ownerId);
    const { registrationInfo } = await checking(() =>
      verifyRegistrationResponse({
        response: passkey as unknown as RegistrationResponseJSON,
        expectedChallenge: challenge,
        expectedOrigin: [...site.origins],
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
  async challenge(): Promise<{ publicKey: JsonObject }> {
    const options = await generateAuthenticationOptions({ rpID: this.#site().id, userVerification: 'required' });
    await this.#open(options.challenge, null);
    return documentOf(options);
  }

  /**
   * The factor whose passkey was used.
   * @throws {Problem} second-factor-refused, that says why: of another site, unknown, used before
   */
  async use(passkey: JsonObject): Promise<FactorRow> {
    const site = this.#site();
    const { store, now } = this.ground;
    const challenge = await this.#takeChallenge(site, passkey, null);
    const factor = typeof passkey.id === 'string' ? await store.byCredential(hashKey(passkey.id)) : undefined;
    if (!factor?.publicKey || !factor.credentialId)
      throw refused('This passkey is not known here. It may have been removed, or be one of another installation.');
    const { publicKey, credentialId, counter, transports } = factor;
    const { verified, authenticationInfo } = await checking(() =>
      verifyAuthenticationResponse({
        response: passkey as unknown as AuthenticationResponseJSON,
        expectedChallenge: challenge,
        expectedOrigin: [...site.origins],
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
    await store.notePasskeyUse(factor.id, authenticationInfo.newCounter, new Date(now()));
    return factor;
  }

  /**
   * The challenge of a response, used up; whose page it was signed on is checked first, to name it.
   * @throws {Problem} second-factor-refused
   */
  async #takeChallenge({ origins }: Site, { response }: JsonObject, ownerId: string | null): Promise<string> {
    const { challenge, origin } = readClientData(response);
    if (!origins.includes(origin))
      throw refused(`The passkey was used on a page of ${origin.slice(0, 200)}; it is one of ${origins.join(', ')}. Open it there.`);
    const owner = await this.ground.store.takeChallenge(hashKey(challenge), new Date(this.ground.now()));
    if (owner === undefined || owner !== ownerId)
      throw refused('This response was used already, or it took longer than five minutes. Try again.');
    return challenge;
  }
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
