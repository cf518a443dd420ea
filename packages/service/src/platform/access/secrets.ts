/** Keeping secrets: encryption of credentials, keys derived for each purpose, hashes of keys, passwords. */
import {
  createCipheriv,
  createDecipheriv,
  createHash,
  hkdfSync,
  pbkdf2,
  randomBytes,
  scrypt,
  type ScryptOptions,
  timingSafeEqual,
} from 'node:crypto';
import { promisify } from 'node:util';
import { hash, verify } from '@node-rs/argon2';
import { verify as verifyBcrypt } from '@node-rs/bcrypt';
import { readPasswordHash } from '@orchard/core/accounts';

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

/** Keys have 128 random bits, so a plain hash is enough. */
export const hashKey = (key: string): string => createHash('sha256').update(key).digest('hex');

/** Argon2id with the parameters OWASP gives as a minimum: 19 MiB, 2 passes, 1 lane. */
const ARGON2ID = { algorithm: 2, memoryCost: 19_456, timeCost: 2, parallelism: 1 };
export const hashPassword = (password: string): Promise<string> => hash(password, ARGON2ID);

let decoy: Promise<string> | undefined;
/** Verifies a password. Without a hash (no such account) it takes as long, so that the duration reveals nothing. */
export async function verifyPassword(passwordHash: string | undefined, password: string): Promise<boolean> {
  decoy ??= hashPassword(randomBytes(16).toString('hex'));
  const matches = await matchesHash(passwordHash ?? (await decoy), password);
  return matches && passwordHash !== undefined;
}

const deriveScrypt = promisify<string, Uint8Array, number, ScryptOptions, Buffer>(scrypt);
const derivePbkdf2 = promisify(pbkdf2);

/** Of our own, or of a system that accounts were taken over from. */
async function matchesHash(text: string, password: string): Promise<boolean> {
  const known = readPasswordHash(text);
  if (typeof known === 'string') return false;
  switch (known.scheme) {
    case 'argon2':
      return verify(text, password);
    case 'bcrypt':
      return verifyBcrypt(password, text);
    case 'scrypt': {
      const { ln, r, p, salt, hash: wanted } = known;
      const options = { N: 2 ** ln, r, p, maxmem: 256 * 2 ** ln * r };
      return timingSafeEqual(await deriveScrypt(password, salt, wanted.length, options), wanted);
    }
    case 'pbkdf2': {
      const { digest, iterations, salt, hash: wanted } = known;
      return timingSafeEqual(await derivePbkdf2(password, salt, iterations, wanted.length, digest), wanted);
    }
  }
}

/** Whether a hash that has just matched should be replaced by one of ours. */
export const isOwnHash = (text: string): boolean =>
  text.startsWith(`$argon2id$v=19$m=${ARGON2ID.memoryCost},t=${ARGON2ID.timeCost},p=${ARGON2ID.parallelism}$`);
