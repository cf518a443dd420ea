/** Upload addresses: each takes one upload, bound to path, size, type and time, from whoever has it. */
import { type FileDocument, Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import busboy from 'busboy';
import type { Readable } from 'node:stream';
import { hashKey, newSecret } from '../../platform/access/secrets.js';
import { type Call, type Environment, environmentOf } from '../../platform/call.js';
import { type Author, authorOf } from '../records/author.js';
import type { Arrived } from './bytes.js';
import type { Contents } from './contents.js';
import { isOfType, mediaTypeOf } from './mediaType.js';
import type { Parts } from './parts.js';
import { filePathOf } from './paths.js';
import { discard, receive } from './receiving.js';
import { untilOf } from './sharing.js';
import type { FileStoring } from './storing.js';
import { addUpload, claimUpload, findUploadAddress, releaseUpload, type UploadRow } from './uploadStore.js';

const HOUR_MS = 3_600_000;

type Wanted = {
  path: string;
  size?: number | undefined;
  type?: string | undefined;
  until?: string | undefined;
  replace: boolean;
  properties?: JsonObject | undefined;
};

/** In whose name something is stored later: the rights were shown when it was begun. */
export const keptAuthor = ({ userId, by }: Author): JsonObject => ({ userId, by });
export const authorKept = ({ userId, by }: JsonObject): Author => ({
  userId: userId as string | null,
  roles: [],
  fields: {},
  trusted: true,
  told: true,
  by: by as string,
});

export class UploadAddresses {
  constructor(
    private readonly parts: Parts,
    private readonly storing: FileStoring,
    private readonly contents: Contents,
  ) {}

  /** @throws {Problem} access-refused, already-exists, invalid-input, quota-exceeded */
  async make(
    call: Call,
    { path, size, type, until, replace, properties = {} }: Wanted,
  ): Promise<{ address: string; until: string; path: string }> {
    const environment = environmentOf(call);
    const author = authorOf(call);
    const place = filePathOf(path, 'body.path');
    await this.storing.demandBefore({ environment, author }, place, { properties, expected: {}, replace });
    const shape = await this.parts.catalogue.files(environment);
    await this.storing.demandRoom(environment.db, environment, shape, author.userId, size ?? 0);
    const now = this.parts.now();
    const secret = newSecret();
    const row: UploadRow = {
      id: this.parts.newId(),
      kind: 'address',
      secret: hashKey(secret),
      path: place.path,
      properties,
      size: size ?? null,
      type: type ?? null,
      replace,
      by: author.by,
      author: keptAuthor(author),
      until: untilOf(until, now, HOUR_MS),
      createdAt: new Date(now),
      usedAt: null,
    };
    await addUpload(environment, row);
    const address = `${this.parts.address()}/files/${environment.app}/${environment.name}/upload/${secret}`;
    return { address, until: row.until.toISOString(), path: place.path };
  }

  /**
   * Takes the upload of an address. One that comes to nothing leaves the address as it was.
   * @param contentOf the content of the call
   * @throws {Problem} upload-address-ended, unsupported-media-type, file-too-large, and those of storing
   */
  async take(
    call: Call,
    environment: Environment,
    secret: string,
    contentOf: (call: Call) => Promise<Readable> | Readable,
  ): Promise<FileDocument> {
    const row = await findUploadAddress(environment, hashKey(secret));
    if (!row) throw new Problem('not-found', 'There is no such upload address. It was mistyped, or is over.');
    const now = this.parts.now();
    if (row.until.getTime() <= now || !(await claimUpload(environment, row.id, new Date(now)))) throw new Problem('upload-address-ended');
    try {
      const content = await contentOf(call);
      const arrived = await receive(call, this.contents, environment, content, row.size ?? undefined);
      await this.#demandType(row, arrived);
      const author = authorKept(row.author);
      const wish = { properties: row.properties, expected: {}, ownerId: author.userId, replace: row.replace };
      return (await this.storing.store({ environment, author }, filePathOf(row.path), arrived, wish)).file;
    } catch (error) {
      await releaseUpload(environment, row.id);
      throw error;
    }
  }

  async #demandType({ path, type: wanted }: UploadRow, arrived: Arrived): Promise<void> {
    if (wanted === null) return;
    const type = await mediaTypeOf(arrived.head, arrived.size, path);
    if (isOfType(type, wanted)) return;
    await discard(arrived);
    throw new Problem(
      'unsupported-media-type',
      `This address takes ${wanted}; the content is ${type}, judged by its first bytes. Nothing was stored.`,
    );
  }
}

/** The part `file` of a form (RFC 7578). @throws {Problem} invalid-input */
export function fileOfForm({ request }: Pick<Call, 'request'>): Promise<Readable> {
  return new Promise((resolve, reject) => {
    const refuse = (problem: string) =>
      reject(
        new Problem('invalid-input', problem, {
          fields: [{ path: 'body.file', problem, expected: 'multipart/form-data with a part named file' }],
        }),
      );
    try {
      const form = busboy({ headers: request.headers, limits: { files: 1, fields: 50, fieldSize: 10_000 } });
      form.on('file', (_name, stream) => resolve(stream));
      form.on('error', (error) => refuse(`The form cannot be read: ${(error as Error).message}.`));
      form.on('close', () => refuse('The form has no part with a file.'));
      // The rest of the call is read by the form's parser; when the caller goes away, so does the content.
      request.once('close', () => form.destroy());
      request.pipe(form);
    } catch (error) {
      refuse(`The form cannot be read: ${(error as Error).message}.`);
    }
  });
}
