/** A thread that names the parts of tables by what they hold, and packs and encrypts those that are not stored yet. */
import { constants, gzipSync } from 'node:zlib';
import { type MessagePort, parentPort, workerData } from 'node:worker_threads';
import { BackupKey, sha256 } from '../sealing.js';
import { stepBehind } from './behind.js';
import type { FromPacker, Known, ToPacker } from './messages.js';

const { key: hex, known, reader } = workerData as { key: string; known: Known; reader: MessagePort };
const key = new BackupKey(hex);
const stored = Array.isArray(known) ? new Set(known) : null;
stepBehind();

reader.on('message', (message: ToPacker) => {
  if ('end' in message) return parentPort?.postMessage(message satisfies FromPacker);
  const { table, rows, content } = message;
  if (known === 'raw') {
    const part = { object: '', rows, bytes: content.byteLength, sha256: '' };
    return parentPort?.postMessage({ table, part, packed: content } satisfies FromPacker, [content.buffer as ArrayBuffer]);
  }
  const digest = sha256(content);
  const object = key.nameOf('lines', digest);
  const part = { object, rows, bytes: content.byteLength, sha256: digest };
  const packed = stored && !stored.has(object) ? packedOf(content) : null;
  stored?.add(object);
  parentPort?.postMessage({ table, part, packed } satisfies FromPacker, packed ? [packed.buffer as ArrayBuffer] : []);
});
parentPort?.on('message', () => {
  reader.close();
  parentPort?.close();
});

function packedOf(content: Uint8Array): Uint8Array {
  const sealed = key.encrypt(gzipSync(content, { level: constants.Z_BEST_SPEED }));
  return sealed.byteLength === sealed.buffer.byteLength ? sealed : new Uint8Array(sealed);
}
