/** Identifiers and keys. Randomness and the clock are passed in, so that results are predictable. */

const CROCKFORD = '0123456789abcdefghjkmnpqrstvwxyz';

/** Names of collections and fields. */
export const NAME_PATTERN = /^[a-z][A-Za-z0-9_]{0,62}$/;

/** Writes bytes as lower-case Crockford base32, five bits a character. */
export function base32(bytes: Uint8Array): string {
  let text = '';
  let bits = 0;
  let value = 0;
  for (const byte of bytes) {
    value = ((value << 8) | byte) & 0xffff;
    bits += 8;
    while (bits >= 5) {
      bits -= 5;
      text += CROCKFORD[(value >> bits) & 31];
    }
  }
  return bits > 0 ? text + CROCKFORD[(value << (5 - bits)) & 31] : text;
}

const hex = (bytes: Uint8Array) => Array.from(bytes, (b) => b.toString(16).padStart(2, '0')).join('');

/**
 * A UUID of version 7 (RFC 9562 section 5.7): 48 bits of Unix time in ms, then 74 random bits.
 * @param random ten bytes
 */
export function uuidv7(nowMs: number, random: Uint8Array): string {
  const time = Math.floor(nowMs).toString(16).padStart(12, '0');
  const tail = Uint8Array.from(random.subarray(0, 10));
  tail[0] = ((tail[0] ?? 0) & 0x0f) | 0x70; // version
  tail[2] = ((tail[2] ?? 0) & 0x3f) | 0x80; // variant
  const rest = hex(tail);
  return `${time.slice(0, 8)}-${time.slice(8)}-${rest.slice(0, 4)}-${rest.slice(4, 8)}-${rest.slice(8)}`;
}

/** The kinds of secret the service hands out, each recognized by its prefix. */
export const KEY_PREFIXES = { client: 'ckey', server: 'skey', member: 'mtok', setup: 'once', device: 'dkey', automation: 'atok' } as const;
export type KeyKind = keyof typeof KEY_PREFIXES;

/** CRC-32 (ISO 3309), the reflected form, as an unsigned number. */
export function crc32(text: string): number {
  let crc = 0xffffffff;
  for (let i = 0; i < text.length; i++) {
    crc ^= text.charCodeAt(i);
    for (let bit = 0; bit < 8; bit++) crc = crc & 1 ? (crc >>> 1) ^ 0xedb88320 : crc >>> 1;
  }
  return (crc ^ 0xffffffff) >>> 0;
}

const checkLetters = (text: string) => {
  const sum = crc32(text);
  return base32(Uint8Array.of(sum >>> 24, (sum >>> 16) & 255, (sum >>> 8) & 255, sum & 255)).slice(0, 6);
};

/**
 * Writes a key: kind, 26 random characters, 6 check characters, for example `ckey-…-0a1b2c`.
 * @param random 16 bytes
 */
export function formatKey(kind: KeyKind, random: Uint8Array): string {
  const body = `${KEY_PREFIXES[kind]}-${base32(random.subarray(0, 16))}`;
  return `${body}-${checkLetters(body)}`;
}

export type KeyReading =
  | { ok: true; kind: KeyKind }
  /** `shape`: not one of our keys at all; `checksum`: a key with a character wrong or missing. */
  | { ok: false; reason: 'shape' | 'checksum' };

/** Distinguishes a well-formed key from a mistyped one without a lookup. */
export function readKey(text: string): KeyReading {
  const match = /^(ckey|skey|mtok|once|dkey|atok)-([0-9a-z]{1,64})-([0-9a-z]{1,16})$/.exec(text);
  if (!match) return { ok: false, reason: /^(ckey|skey|mtok|once|dkey|atok)/.test(text) ? 'checksum' : 'shape' };
  if (checkLetters(`${match[1]}-${match[2]}`) !== match[3]) return { ok: false, reason: 'checksum' };
  const kind = (Object.keys(KEY_PREFIXES) as KeyKind[]).find((k) => KEY_PREFIXES[k] === match[1]);
  return { ok: true, kind: kind as KeyKind };
}
