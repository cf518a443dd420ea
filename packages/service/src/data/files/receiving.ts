/** Receiving contents: by PUT, and with their digests checked. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { isPlainObject, jsonFault } from '@orchard/core';
import type { Call, Environment } from '../../platform/call.js';
import { rm } from 'node:fs/promises';
import type { Readable } from 'node:stream';
import type { Arrived } from './bytes.js';
import type { Contents } from './contents.js';

/**
 * Takes the content of a call, as it comes.
 * @throws {Problem} file-too-large, storage-full, upload-broken, digest-mismatch
 */
export async function receive(
  call: Call,
  contents: Contents,
  environment: Environment,
  content: Readable,
  most?: number,
): Promise<Arrived> {
  const limit = await contents.limitOf(environment, most);
  const announced = content === call.request ? Number(call.headers['content-length'] ?? 0) : 0;
  if (announced > limit.bytes) throw limit.refuse(announced);
  await contents.bytes.demandRoom(announced);
  const wanted = digestIn(call.headers['content-digest'] ?? call.headers['repr-digest']);
  const arrived = await contents.bytes.take(environment.id, content, limit);
  if (wanted === null || wanted === arrived.digest) return arrived;
  await discard(arrived);
  throw new Problem('digest-mismatch');
}

export const discard = ({ file }: Arrived): Promise<void> => rm(file, { force: true });

/** RFC 9530 section 2: `sha-256=:<base64>:`, among others. The SHA-256 in hexadecimal. @throws {Problem} invalid-input */
function digestIn(header: string | string[] | undefined): string | null {
  if (header === undefined) return null;
  const found = /(?:^|[,\s])sha-256=:([A-Za-z0-9+/]{43}=):/.exec(String(header))?.[1];
  if (!found)
    throw new Problem('invalid-input', 'The digest must be a SHA-256, such as `Content-Digest: sha-256=:…:` (RFC 9530).', {
      fields: [{ path: 'headers.Content-Digest', problem: 'It holds no SHA-256.', expected: 'sha-256=:<44 characters of base64>:' }],
    });
  return Buffer.from(found, 'base64').toString('hex');
}

/** Properties that come as text. @throws {Problem} invalid-input */
export function propertiesIn(text: string | null | undefined, where: string): JsonObject {
  if (!text) return {};
  let value: unknown;
  try {
    value = JSON.parse(text);
  } catch {
    value = null;
  }
  const fault = isPlainObject(value) ? jsonFault(value as JsonObject) : 'They are no JSON object.';
  if (fault)
    throw new Problem('invalid-input', `The properties cannot be read. ${fault}`, {
      fields: [{ path: where, problem: fault, expected: 'a JSON object, such as {"caption":"The col"}' }],
    });
  return value as JsonObject;
}
