/** Keeping secrets: encryption of credentials, keys derived for each purpose, hashes of keys, passwords. */
import { createCipheriv, createDecipheriv, createHash, hkdfSync, randomBytes } from 'node:crypto';
import { hashInThread, matchesInThread } from './hashThreads.js';

/** A 32-byte key for one purpose, derived from the installation's secret key (HKDF, RFC 5869). */
export function deriveKey(secretKey: Buffer, purpose: string): Buffer {
  return Buffer.from(hkdfSync('sha256', secretKey, '', purpose, 32));
}

/**
 * Encrypts a credential with AES-256-GCM. `context` names where it belongs; it opens only there.
 * @returns base64url of nonce (12) || ciphertext || tag (16)
 */
export function seal(secretKey: Buffer, context: string, plain: string | Buffer): string {
  const nonce = randomBytes(12);
  const cipher = createCipheriv('aes-256-gcm', deriveKey(secretKey, 'credentials'), nonce).setAAD(Buffer.from(context));
  return Buffer.concat([nonce, cipher.update(plain), cipher.final(), cipher.getAuthTag()]).toString('base64url');
}

/** @throws Error when the secret key is another one, or the text belongs elsewhere */
export function unseal(secretKey: Buffer, context: string, sealed: string): Buffer {
  const bytes = Buffer.from(sealed, 'base64url');
  const decipher = createDecipheriv('aes-256-gcm', deriveKey(secretKey, 'credentials'), bytes.subarray(0, 12)).setAAD(Buffer.from(context));
  decipher.setAuthTag(bytes.subarray(-16));
  try {
    return Buffer.concat([decipher.update(bytes.subarray(12, -16)), decipher.final()]);
  } catch {
    throw new Error(
      `The credential of ${context} cannot be decrypted: the secret key is not the one it was stored with. Start with the original secret.key or ORCHARD_SECRET_KEY.`,
    );
  }
}

/** A secret of 192 random bits, for an address. */
export const newSecret = (): string => randomBytes(24).toString('base64url');

/** Keys and secrets have 128 random bits and more, so a plain hash is enough. */
export const hashKey = (key: string): string => createHash('sha256').update(key).digest('hex');

export const hashPassword = hashInThread;

let decoy: Promise<string> | undefined;
/** Verifies a password. Without a hash (no such account) it takes as long, so that the duration reveals nothing. */
export async function verifyPassword(passwordHash: string | undefined, password: string): Promise<boolean> {
  decoy ??= hashPassword(randomBytes(16).toString('hex'));
  const matches = await matchesInThread(passwordHash ?? (await decoy), password);
  return matches && passwordHash !== undefined;
}

export { isOwnHash } from './passwordHashes.js';
