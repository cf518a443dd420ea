/** Voluntary application server identification for web push: RFC 8292. */
import { createECDH, createPrivateKey, createPublicKey, sign, verify, type KeyObject } from 'node:crypto';

export type SigningKey = {
  privateKey: KeyObject;
  /** The uncompressed P-256 point, base64url: `applicationServerKey` of a subscription, `k` of the header. */
  publicKey: string;
};

const base64url = (data: string | Buffer) => Buffer.from(data).toString('base64url');

/** Builds the signing key from a raw P-256 private key of 32 bytes. */
export function signingKeyFrom(privateBytes: Buffer): SigningKey {
  const ecdh = createECDH('prime256v1');
  ecdh.setPrivateKey(privateBytes);
  const point = ecdh.getPublicKey();
  const jwk = { kty: 'EC', crv: 'P-256', d: base64url(privateBytes), ...pointAsJwk(point) };
  return { privateKey: createPrivateKey({ key: jwk, format: 'jwk' }), publicKey: base64url(point) };
}

/** A fresh raw P-256 private key, 32 bytes. */
export function generateSigningKey(): Buffer {
  const ecdh = createECDH('prime256v1');
  ecdh.generateKeys();
  const bytes = ecdh.getPrivateKey();
  return Buffer.concat([Buffer.alloc(32 - bytes.length), bytes]);
}

const pointAsJwk = (point: Buffer) => ({ x: base64url(point.subarray(1, 33)), y: base64url(point.subarray(33, 65)) });

/** RFC 8292 section 2: `aud` is the origin of the push resource, `exp` at most 24 hours ahead. */
export type VapidClaims = { aud: string; exp: number; sub?: string };

/** Writes the Authorization header: `vapid t=<JWT ES256>, k=<public key>` (RFC 8292 section 3). */
export function vapidHeader(key: SigningKey, claims: VapidClaims): string {
  const signed = `${base64url('{"typ":"JWT","alg":"ES256"}')}.${base64url(JSON.stringify(claims))}`;
  const signature = sign('sha256', Buffer.from(signed), { key: key.privateKey, dsaEncoding: 'ieee-p1363' });
  return `vapid t=${signed}.${base64url(signature)}, k=${key.publicKey}`;
}

export type VapidReading = { ok: true; claims: VapidClaims; publicKey: string } | { ok: false; reason: string };

/** Reads and verifies the header as a push service does (RFC 8292 sections 3 and 4.2). */
export function readVapidHeader(header: string, origin: string, nowMs: number): VapidReading {
  const match = /^vapid\s+(?:t=([\w.-]+)\s*,\s*k=([\w-]+)|k=([\w-]+)\s*,\s*t=([\w.-]+))$/i.exec(header.trim());
  if (!match) return { ok: false, reason: 'The Authorization header is not of the vapid scheme.' };
  const token = (match[1] ?? match[4]) as string;
  const publicKey = (match[2] ?? match[3]) as string;
  const [head, body, signature] = token.split('.');
  try {
    const point = Buffer.from(publicKey, 'base64url');
    const key = createPublicKey({ key: { kty: 'EC', crv: 'P-256', ...pointAsJwk(point) }, format: 'jwk' });
    const valid = verify(
      'sha256',
      Buffer.from(`${head}.${body}`),
      { key, dsaEncoding: 'ieee-p1363' },
      Buffer.from(signature ?? '', 'base64url'),
    );
    if (!valid) return { ok: false, reason: 'The signature does not match the key.' };
    const claims = JSON.parse(Buffer.from(body ?? '', 'base64url').toString()) as VapidClaims;
    if (claims.aud !== origin) return { ok: false, reason: `The token is for ${claims.aud}, not for ${origin}.` };
    if (!(claims.exp * 1000 > nowMs)) return { ok: false, reason: 'The token has expired.' };
    if (claims.exp * 1000 > nowMs + 86_400_000) return { ok: false, reason: 'The token is valid for more than 24 hours.' };
    return { ok: true, claims, publicKey };
  } catch {
    return { ok: false, reason: 'The key or the token is malformed.' };
  }
}
