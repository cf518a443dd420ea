/** Messages of STUN (RFC 8489) and TURN (RFC 8656), as far as a trial needs them. */
import { createHash, createHmac, randomBytes } from 'node:crypto';

/** RFC 8489 section 5. */
const COOKIE = 0x2112a442;
const [HEADER_BYTES, ALIGN] = [20, 4];
/** Requests; a success has 0x100 added, and an error 0x110 (RFC 8489 section 5). */
export const METHODS = { binding: 0x0001, allocate: 0x0003, refresh: 0x0004 } as const;
const [SUCCESS, ERROR] = [0x0100, 0x0110];
/** RFC 8489 section 18.3 and RFC 8656 section 18. */
const [USERNAME, INTEGRITY, ERROR_CODE, LIFETIME, REALM, NONCE, RELAYED, TRANSPORT, MAPPED] = [
  0x0006, 0x0008, 0x0009, 0x000d, 0x0014, 0x0015, 0x0016, 0x0019, 0x0020,
];
/** UDP, as RFC 8656 section 18.7 writes it. */
const UDP = Buffer.from([17, 0, 0, 0]);
const INTEGRITY_BYTES = 20;

export type StunAnswer = {
  ok: boolean;
  code: number | null;
  reason: string | null;
  realm: string | null;
  nonce: string | null;
  /** The address that relays, or the one the request came from. */
  address: string | null;
};
export type Signed = { username: string; credential: string; realm: string; nonce: string };

function attribute(type: number, value: Buffer): Buffer {
  const head = Buffer.alloc(4);
  head.writeUInt16BE(type, 0);
  head.writeUInt16BE(value.length, 2);
  return Buffer.concat([head, value, Buffer.alloc((ALIGN - (value.length % ALIGN)) % ALIGN)]);
}

function message(type: number, id: Buffer, body: Buffer, moreBytes = 0): Buffer {
  const head = Buffer.alloc(8);
  head.writeUInt16BE(type, 0);
  head.writeUInt16BE(body.length + moreBytes, 2);
  head.writeUInt32BE(COOKIE, 4);
  return Buffer.concat([head, id, body]);
}

/** A request. @param signed the long-term credentials (RFC 8489 section 9.2), once the server has named its realm */
export function requestOf(method: keyof typeof METHODS, signed?: Signed): Buffer {
  const id = randomBytes(12);
  const parts = [];
  if (method === 'allocate') parts.push(attribute(TRANSPORT, UDP));
  // A lifetime of nothing gives the address back (RFC 8656 section 7.1).
  if (method === 'refresh') parts.push(attribute(LIFETIME, Buffer.alloc(4)));
  if (!signed) return message(METHODS[method], id, Buffer.concat(parts));
  const { username, credential, realm, nonce } = signed;
  for (const [type, text] of [
    [USERNAME, username],
    [REALM, realm],
    [NONCE, nonce],
  ] as const)
    parts.push(attribute(type, Buffer.from(text)));
  const body = Buffer.concat(parts);
  const key = createHash('md5').update(`${username}:${realm}:${credential}`).digest();
  // The length already counts the attribute that follows (RFC 8489 section 14.5).
  const integrity = createHmac('sha1', key)
    .update(message(METHODS[method], id, body, 4 + INTEGRITY_BYTES))
    .digest();
  return message(METHODS[method], id, Buffer.concat([body, attribute(INTEGRITY, integrity)]));
}

/** How long the message is that begins here, or null as long as its header is not complete; for streams. */
export const lengthOf = (bytes: Buffer): number | null => (bytes.length < HEADER_BYTES ? null : HEADER_BYTES + bytes.readUInt16BE(2));

/** Reads the answer to a request, or null where it is none. */
export function readAnswer(request: Buffer, bytes: Buffer): StunAnswer | null {
  if (bytes.length < HEADER_BYTES || !bytes.subarray(4, HEADER_BYTES).equals(request.subarray(4, HEADER_BYTES))) return null;
  const [asked, type] = [request.readUInt16BE(0), bytes.readUInt16BE(0)];
  if (type !== (asked | SUCCESS) && type !== (asked | ERROR)) return null;
  const found = new Map<number, Buffer>();
  for (let at = HEADER_BYTES; at + 4 <= bytes.length; ) {
    const length = bytes.readUInt16BE(at + 2);
    found.set(bytes.readUInt16BE(at), bytes.subarray(at + 4, at + 4 + length));
    at += 4 + Math.ceil(length / ALIGN) * ALIGN;
  }
  const error = found.get(ERROR_CODE);
  const text = (of: number) => found.get(of)?.toString() ?? null;
  return {
    ok: type === (asked | SUCCESS),
    code: error && error.length >= 4 ? (error[2] as number) * 100 + (error[3] as number) : null,
    reason: error?.subarray(4).toString() ?? null,
    realm: text(REALM),
    nonce: text(NONCE),
    address: addressIn(found.get(RELAYED) ?? found.get(MAPPED)),
  };
}

/** An IPv4 address and port, hidden by the cookie (RFC 8489 section 14.2). */
function addressIn(value: Buffer | undefined): string | null {
  if (value?.length !== 8) return null;
  const port = value.readUInt16BE(2) ^ (COOKIE >>> 16);
  const host = (value.readUInt32BE(4) ^ COOKIE) >>> 0;
  return `${[24, 16, 8, 0].map((bits) => (host >>> bits) & 255).join('.')}:${port}`;
}
