/**
 * The keys of backups, and what is made with them. The key itself stands outside of every backup: in the settings, or in a
 * file of the data directory that the team copies to a place of its own.
 */
import { createCipheriv, createDecipheriv, createHash, createHmac, hkdfSync, pbkdf2Sync, randomBytes, timingSafeEqual } from 'node:crypto';
import type { ArchiveManifest } from '@orchard/contract';

/** OpenSSL's `enc`: the word `Salted__`, eight bytes of salt, the ciphertext. */
const MAGIC = Buffer.from('Salted__');
const SALT = 8;
/** The key has 256 random bits: guessing it is hopeless without a slow derivation. */
const ITERATIONS = 1;
export const CIPHER = 'aes-256-cbc';

export class BackupKey {
  /** What `openssl enc -pass` takes. */
  readonly #password: string;
  readonly #names: Buffer;
  readonly #macs: Buffer;
  /** Names the key, and reveals nothing of it. */
  readonly mark: string;

  /** @param hex 64 hexadecimal digits */
  constructor(hex: string) {
    this.#password = hex.toLowerCase();
    const derive = (purpose: string) => Buffer.from(hkdfSync('sha256', Buffer.from(hex, 'hex'), '', purpose, 32));
    this.#names = derive('backup names');
    this.#macs = derive('backup manifest');
    this.mark = derive('backup mark').toString('hex').slice(0, 12);
  }

  /** For a thread, which makes it anew. */
  get hex(): string {
    return this.#password;
  }

  /** The name of an object, which nobody without the key can connect with its content. */
  nameOf(kind: 'lines' | 'file', sha256: string): string {
    return createHmac('sha256', this.#names).update(`${kind} ${sha256}`).digest('hex');
  }

  /** As `openssl enc -aes-256-cbc -pbkdf2 -iter 1 -md sha256` does. */
  cipher(): { header: Buffer; cipher: ReturnType<typeof createCipheriv> } {
    const salt = randomBytes(SALT);
    return { header: Buffer.concat([MAGIC, salt]), cipher: createCipheriv(CIPHER, ...this.#derived(salt)) };
  }

  encrypt(plain: Uint8Array): Buffer {
    const { header, cipher } = this.cipher();
    return Buffer.concat([header, cipher.update(plain), cipher.final()]);
  }

  /** @param header the first {@link HEADER_BYTES} of an object @throws Error when it is not one */
  decipher(header: Uint8Array): ReturnType<typeof createDecipheriv> {
    if (!Buffer.from(header.subarray(0, MAGIC.length)).equals(MAGIC)) throw new Error('does not begin like an encrypted object');
    return createDecipheriv(CIPHER, ...this.#derived(header.subarray(MAGIC.length, HEADER_BYTES)));
  }

  decrypt(sealed: Uint8Array): Buffer {
    const decipher = this.decipher(sealed);
    return Buffer.concat([decipher.update(sealed.subarray(HEADER_BYTES)), decipher.final()]);
  }

  macOf(manifest: Omit<ArchiveManifest, 'mac'>): string {
    return createHmac('sha256', this.#macs).update(JSON.stringify(manifest)).digest('hex');
  }

  isSigned({ mac, ...manifest }: ArchiveManifest): boolean {
    const wanted = this.macOf(manifest);
    return mac.length === wanted.length && timingSafeEqual(Buffer.from(mac), Buffer.from(wanted));
  }

  #derived(salt: Uint8Array): [key: Buffer, iv: Buffer] {
    const both = pbkdf2Sync(this.#password, salt, ITERATIONS, 48, 'sha256');
    return [both.subarray(0, 32), both.subarray(32)];
  }
}
export const HEADER_BYTES = MAGIC.length + SALT;

/** The key that new backups are made with, and former ones that older backups still open with. */
export class BackupKeys {
  readonly #byMark: ReadonlyMap<string, BackupKey>;
  readonly current: BackupKey;

  /** @param hexes the current one first @param whereabouts where people find it, in words */
  constructor(
    hexes: readonly [string, ...string[]],
    readonly whereabouts: string,
  ) {
    const keys = hexes.map((hex) => new BackupKey(hex));
    this.current = keys[0] as BackupKey;
    this.#byMark = new Map(keys.map((key) => [key.mark, key]));
  }

  get all(): BackupKey[] {
    return [...this.#byMark.values()];
  }

  /** Null when the key is not at hand. */
  of(mark: string): BackupKey | null {
    return this.#byMark.get(mark) ?? null;
  }
}

export const sha256 = (content: Uint8Array): string => createHash('sha256').update(content).digest('hex');
