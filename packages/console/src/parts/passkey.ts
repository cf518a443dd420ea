/** Passkeys in this browser (WebAuthn Level 3). */
import { operations } from '@orchard/contract';
import {
  browserSupportsWebAuthn,
  type PublicKeyCredentialCreationOptionsJSON,
  type PublicKeyCredentialRequestOptionsJSON,
  startAuthentication,
  startRegistration,
  WebAuthnError,
} from '@simplewebauthn/browser';
import { api } from '../api.js';

type Json = Record<string, never>;

/** Why a passkey cannot be used on this page; null where it can. A passkey belongs to a host name, never to an IP address. */
export function passkeyObstacle({ hostname, port, protocol }: Location = location): string | null {
  if (/^127\.|^\[/.test(hostname)) return `Passkeys need a host name. Open the console at ${protocol}//localhost${port && `:${port}`}.`;
  if (!browserSupportsWebAuthn()) return 'This browser has no passkeys here. They need https, or localhost.';
  return null;
}

/** Creates a passkey for the member who is signed in. */
export async function createPasskey(): Promise<Json> {
  const { publicKey } = await api.call(operations.secondFactors.beginPasskey, {});
  return told(async () => startRegistration({ optionsJSON: publicKey as unknown as PublicKeyCredentialCreationOptionsJSON }));
}

/** Uses a passkey, to sign in or to confirm. */
export async function provePasskey(): Promise<Json> {
  const obstacle = passkeyObstacle();
  if (obstacle) throw new Error(obstacle);
  const { publicKey } = await api.call(operations.secondFactors.challenge, {});
  return told(async () => startAuthentication({ optionsJSON: publicKey as unknown as PublicKeyCredentialRequestOptionsJSON }));
}

async function told(work: () => Promise<object>): Promise<Json> {
  try {
    return (await work()) as Json;
  } catch (error) {
    if (error instanceof WebAuthnError && error.code === 'ERROR_AUTHENTICATOR_PREVIOUSLY_REGISTERED')
      throw new Error('This device has a passkey for you already.');
    if ((error as Error).name === 'NotAllowedError') throw new Error('The passkey was not used: it was cancelled, or took too long.');
    throw error;
  }
}
