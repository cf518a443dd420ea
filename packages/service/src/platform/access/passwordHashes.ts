/** Hashes of passwords, worked out on the calling thread: see hashThreads.ts for where that is. */
import { pbkdf2Sync, scryptSync, timingSafeEqual } from 'node:crypto';
import { hashSync, verifySync } from '@node-rs/argon2';
import { verifySync as verifyBcryptSync } from '@node-rs/bcrypt';
import { readPasswordHash } from '@orchard/core/accounts';

/** Argon2id with the parameters OWASP gives as a minimum: 19 MiB, 2 passes, 1 lane. */
const ARGON2ID = { algorithm: 2, memoryCost: 19_456, timeCost: 2, parallelism: 1 };

export const makeHash = (password: string): string => hashSync(password, ARGON2ID);

/** Of our own, or of a system that accounts were taken over from. */
export function matchesHash(text: string, password: string): boolean {
  const known = readPasswordHash(text);
  if (typeof known === 'string') return false;
  switch (known.scheme) {
    case 'argon2':
      return verifySync(text, password);
    case 'bcrypt':
      return verifyBcryptSync(password, text);
    case 'scrypt': {
      const { ln, r, p, salt, hash: wanted } = known;
      const options = { N: 2 ** ln, r, p, maxmem: 256 * 2 ** ln * r };
      return timingSafeEqual(scryptSync(password, salt, wanted.length, options), wanted);
    }
    case 'pbkdf2': {
      const { digest, iterations, salt, hash: wanted } = known;
      return timingSafeEqual(pbkdf2Sync(password, salt, iterations, wanted.length, digest), wanted);
    }
  }
}

/** Whether a hash that has just matched should be replaced by one of ours. */
export const isOwnHash = (text: string): boolean =>
  text.startsWith(`$argon2id$v=19$m=${ARGON2ID.memoryCost},t=${ARGON2ID.timeCost},p=${ARGON2ID.parallelism}$`);
