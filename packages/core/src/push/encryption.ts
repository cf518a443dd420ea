/** Message encryption for web push: RFC 8291 over the aes128gcm coding of RFC 8188. */
import { createCipheriv, createDecipheriv, createECDH, createHmac } from 'node:crypto';

const CURVE = 'prime256v1';
/** RFC 8188 section 2.1: salt (16) || record size (4) || key id length (1) || key id. The key id is a P-256 point (65). */
const HEADER_BYTES = 16 + 4 + 1 + 65;
const RECORD_SIZE = 4096;
const TAG_BYTES = 16;

export type SubscriptionKeys = {
  /** The user agent's public key, an uncompressed P-256 point, 65 bytes. */
  p256dh: Buffer;
  /** The authentication secret, 16 bytes. */
  auth: Buffer;
};
export type ContentKeys = { key: Buffer; nonce: Buffer };

const hmac = (key: Buffer, ...parts: Buffer[]) => {
  const mac = createHmac('sha256', key);
  for (const part of parts) mac.update(part);
  return mac.digest();
};
const ONE = Buffer.of(1);
const KEY_INFO = Buffer.from('Content-Encoding: aes128gcm\0\x01', 'latin1');
const NONCE_INFO = Buffer.from('Content-Encoding: nonce\0\x01', 'latin1');
const WEB_PUSH_INFO = Buffer.from('WebPush: info\0', 'latin1');

/**
 * RFC 8188 section 2.2: content encryption key and nonce of the first record from the input keying material. HKDF
 * (RFC 5869) is written out, since each output is at most one block of SHA-256.
 */
export function contentKeysOf(ikm: Buffer, salt: Buffer): ContentKeys {
  const prk = hmac(salt, ikm);
  return { key: hmac(prk, KEY_INFO).subarray(0, 16), nonce: hmac(prk, NONCE_INFO).subarray(0, 12) };
}

/** RFC 8291 section 3.4: input keying material from the shared secret, the authentication secret and both public keys. */
export function keyingMaterial(shared: Buffer, auth: Buffer, uaPublic: Buffer, asPublic: Buffer): Buffer {
  return hmac(hmac(auth, shared), WEB_PUSH_INFO, uaPublic, asPublic, ONE);
}

/** What one message is encrypted with; both parts fresh for every message (RFC 8291 section 2, RFC 8188 section 2.1). */
export type MessageSecrets = { salt: Buffer; privateKey?: Buffer };

/**
 * Encrypts one push message into an aes128gcm body of a single record.
 * @param plaintext at most 3993 bytes, so that the body stays within 4096
 * @throws RangeError when the plaintext is longer, Error when the user agent's key is not a point on P-256
 */
export function encryptMessage(plaintext: Uint8Array, keys: SubscriptionKeys, secrets: MessageSecrets): Buffer {
  // RFC 8291 section 4: one record, so the padding delimiter is 2 and nothing follows it.
  if (plaintext.length > RECORD_SIZE - HEADER_BYTES - TAG_BYTES - 1) throw new RangeError('The message is over 3993 bytes.');
  const ecdh = createECDH(CURVE);
  if (secrets.privateKey) ecdh.setPrivateKey(secrets.privateKey);
  else ecdh.generateKeys();
  const asPublic = ecdh.getPublicKey();
  const { key, nonce } = contentKeysOf(keyingMaterial(ecdh.computeSecret(keys.p256dh), keys.auth, keys.p256dh, asPublic), secrets.salt);
  const cipher = createCipheriv('aes-128-gcm', key, nonce);
  const size = Buffer.alloc(5);
  size.writeUInt32BE(RECORD_SIZE, 0);
  size[4] = asPublic.length;
  return Buffer.concat([
    secrets.salt,
    size,
    asPublic,
    cipher.update(plaintext),
    cipher.update(Buffer.of(2)),
    cipher.final(),
    cipher.getAuthTag(),
  ]);
}

/**
 * Decrypts an aes128gcm body of one record, as the user agent does.
 * @throws Error when the body is malformed, or was not meant for these keys
 */
export function decryptMessage(body: Buffer, privateKey: Buffer, auth: Buffer): Buffer {
  if (body.length < HEADER_BYTES + TAG_BYTES + 1 || body[20] !== 65) throw new Error('Not a web push message: its header is malformed.');
  const ecdh = createECDH(CURVE);
  ecdh.setPrivateKey(privateKey);
  const asPublic = body.subarray(21, HEADER_BYTES);
  const { key, nonce } = contentKeysOf(
    keyingMaterial(ecdh.computeSecret(asPublic), auth, ecdh.getPublicKey(), asPublic),
    body.subarray(0, 16),
  );
  const decipher = createDecipheriv('aes-128-gcm', key, nonce);
  decipher.setAuthTag(body.subarray(-TAG_BYTES));
  const padded = Buffer.concat([decipher.update(body.subarray(HEADER_BYTES, -TAG_BYTES)), decipher.final()]);
  const end = padded.lastIndexOf(2);
  // RFC 8188 section 2: the last record ends in the delimiter 2, then zeros.
  if (end < 0 || padded.subarray(end + 1).some((byte) => byte !== 0)) throw new Error('Not a web push message: its padding is malformed.');
  return padded.subarray(0, end);
}
