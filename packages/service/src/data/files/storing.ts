/** Storing a content as a file: a new one, or a new edition. */
import { type FileDocument, Problem } from '@orchard/contract';
import type { FilePath, JsonObject } from '@orchard/core';
import type { Statements } from '../../platform/database/connection.js';
import type { Environment } from '../../platform/call.js';
import { FILE_FACTS, FILES } from '../collections/filesShape.js';
import { type CollectionShape, presentRow } from '../collections/shape.js';
import type { Author } from '../records/author.js';
import type { Expected } from '../records/forms.js';
import { WriteGate, type WritePlace, type Written } from '../records/gate.js';
import type { AskedWrite } from '../records/ports.js';
import { asSeen } from '../records/reading.js';
import type { Records } from '../records/records.js';
import type { FileAccess } from './access.js';
import type { Arrived } from './bytes.js';
import type { Contents } from './contents.js';
import { addEdition, bytesOf, type FileRow, fileAt } from './fileStore.js';
import { probe } from './ffmpeg.js';
import { AreaChanged, type Folders } from './folders.js';
import { mediaTypeOf } from './mediaType.js';
import type { Parts } from './parts.js';
import { fileSettings } from './settings.js';

/** How often a write is tried again when somebody else was faster. */
const ROUNDS = 5;
export type StoreWish = { properties: JsonObject; expected: Expected; ownerId?: string | null; replace?: boolean };
export type StoredFile = { file: FileDocument; created: boolean };
type Facts = { size: number; type: string; digest: string; durationMs: number | null };

export class FileStoring {
  readonly gate: WriteGate;

  constructor(
    private readonly parts: Parts,
    records: Records,
    readonly folders: Folders,
    readonly access: FileAccess,
    readonly contents: Contents,
  ) {
    this.gate = new WriteGate(parts, records);
  }

  /**
   * Whether the author may store something at a path, as far as that is known without its content.
   * @throws {Problem} access-refused, invalid-input, version-conflict, already-exists
   */
  async demandBefore({ environment, author }: WritePlace, path: FilePath, wish: StoreWish): Promise<void> {
    demandProperties(wish.properties);
    const shape = await this.parts.catalogue.files(environment);
    const row = await fileAt(environment.db, shape, path.path);
    this.#demandExpected(path, row, wish);
    if (row) {
      await this.access.demandBefore(environment, author, 'update', presentRow(shape, row, null, true));
      return;
    }
    const area = await this.folders.areaOf(environment, path.folder);
    await this.access.demandBefore(environment, author, 'create', { ...wish.properties, ...path, rulesFrom: area, ownerId: author.userId });
  }

  #demandExpected({ path }: FilePath, row: FileRow | null, { expected, replace = true }: StoreWish): void {
    if (row && (expected.absent || !replace))
      throw expected.absent
        ? new Problem('version-conflict', `There is a file ${path} already, at version ${row.version}.`, { currentVersion: row.version })
        : new Problem('already-exists', `There is a file ${path} already.`);
    if (!row && expected.version !== undefined)
      throw new Problem('not-found', `There is no file ${path}, so no version ${expected.version} of it.`);
    if (row && expected.version !== undefined && expected.version !== row.version)
      throw new Problem('version-conflict', `If-Match names version ${expected.version} of ${path}; it is at version ${row.version} now.`, {
        currentVersion: row.version,
      });
  }

  /**
   * Stores a content that has arrived.
   * @throws {Problem} access-refused, version-conflict, already-exists, quota-exceeded, and those of hooks
   */
  async store(place: WritePlace, path: FilePath, arrived: Arrived, wish: StoreWish): Promise<StoredFile> {
    demandProperties(wish.properties);
    const type = await mediaTypeOf(arrived.head, arrived.size, path.name);
    await this.contents.keep(place.environment, arrived);
    const durationMs = await this.#durationOf(place.environment, type, arrived.digest);
    const facts = { size: arrived.size, type, digest: arrived.digest, durationMs };
    return this.tried(() => this.#attempt(place, path, facts, wish), wish.expected);
  }

  async #durationOf({ id }: Environment, type: string, digest: string): Promise<number | null> {
    if (!/^(video|audio)\//.test(type)) return null;
    try {
      return (await probe({ file: this.contents.bytes.place(id, digest) }, '/'))?.durationMs ?? null;
    } catch (error) {
      // A machine without the encoder stores files all the same.
      if (error instanceof Problem && error.problem === 'no-encoder') return null;
      throw error;
    }
  }

  /** Tries a write again when somebody else was faster, unless the caller named a version. */
  async tried<T>(work: () => Promise<T>, expected: Expected): Promise<T> {
    for (let round = 1; ; round++) {
      try {
        return await work();
      } catch (error) {
        if (round >= ROUNDS || !isOvertaken(error, expected)) throw error;
      }
    }
  }

  async #attempt(place: WritePlace, path: FilePath, facts: Facts, wish: StoreWish): Promise<StoredFile> {
    const { environment, author } = place;
    const shape = await this.parts.catalogue.files(environment);
    const row = await fileAt(environment.db, shape, path.path);
    this.#demandExpected(path, row, wish);
    const area = await this.folders.areaOf(environment, path.folder);
    const owner: JsonObject = author.trusted && wish.ownerId !== undefined ? { ownerId: wish.ownerId } : {};
    if (row && row.digest === facts.digest && Object.keys(wish.properties).length === 0)
      return {
        file: await this.shown(environment, shape, await this.access.demandRow(environment, author, 'update', row, path.path), author),
        created: false,
      };
    const asked: AskedWrite = row
      ? {
          action: 'change',
          collection: FILES,
          id: row.id,
          record: { ...wish.properties, ...facts, edition: row.edition + 1 },
          expected: { version: row.version },
        }
      : {
          action: 'create',
          collection: FILES,
          id: '',
          record: { id: this.parts.newId(), ...wish.properties, ...path, ...facts, ...owner, edition: 1, rulesFrom: area },
          expected: {},
        };
    const before = row ? presentRow(shape, row, null, true) : null;
    if (before) await this.access.demand(environment, author, 'update', before);
    await this.access.demand(environment, author, before ? 'update' : 'create', { ownerId: author.userId, ...before, ...asked.record });
    const { record } = await this.write(place, asked, path.folder, area, async (on, write) => {
      const written = await write();
      const { id } = written.record as { id: string };
      await this.#addEdition(on, environment, id, (asked.record as { edition: number }).edition, facts, author);
      await this.demandRoom(on, environment, shape, (before?.ownerId ?? author.userId ?? wish.ownerId ?? null) as string | null);
      return written;
    });
    return { file: presentFile(record as JsonObject), created: row === null };
  }

  async #addEdition(
    on: Statements,
    environment: Environment,
    fileId: string,
    edition: number,
    facts: Facts,
    { by }: Author,
  ): Promise<void> {
    const { editions } = await fileSettings.read(environment);
    const { durationMs: _, ...content } = facts;
    await addEdition(on, environment, { fileId, edition, ...content, by, at: new Date(this.parts.now()) }, editions);
  }

  /** Writes through the gate of records, and holds the rules of the folder meanwhile. */
  write(
    place: WritePlace,
    asked: AskedWrite,
    folder: string,
    area: string,
    store: (on: Statements, write: () => Promise<Written>) => Promise<Written>,
  ): Promise<Written> {
    return this.gate.write(place, asked, true, async (on, write) => {
      await this.folders.hold(on, place.environment, folder, area, place.author.by);
      return store(on, write);
    });
  }

  /** @throws {Problem} quota-exceeded */
  async demandRoom(on: Statements, environment: Environment, shape: CollectionShape, ownerId: string | null, more = 0): Promise<void> {
    const { totalBytes, userBytes } = await fileSettings.read(environment);
    if (totalBytes !== null && (await bytesOf(on, shape)) + more > totalBytes)
      throw new Problem(
        'quota-exceeded',
        `All files of this environment take at most ${totalBytes.toLocaleString('en')} bytes. Nothing was stored.`,
      );
    if (userBytes !== null && ownerId !== null && (await bytesOf(on, shape, ownerId)) + more > userBytes)
      throw new Problem(
        'quota-exceeded',
        `The files of one user take at most ${userBytes.toLocaleString('en')} bytes. Nothing was stored.`,
      );
  }

  /** A file as the author is shown it. */
  async shown(environment: Environment, shape: CollectionShape, row: FileRow, author: Author): Promise<FileDocument> {
    const record = presentRow(shape, row, null, true);
    const shapes = await this.parts.catalogue.shapes(environment, FILES);
    return presentFile(await asSeen(environment.db, shapes, shape, record, author, this.parts.now()));
  }
}

/** Somebody else stored at the same path, or changed the file or the rules of its folder, since it was read. */
function isOvertaken(error: unknown, expected: Expected): boolean {
  if (error instanceof AreaChanged) return true;
  if (!(error instanceof Problem) || expected.version !== undefined || expected.absent) return false;
  return (
    error.problem === 'version-conflict' || (error.problem === 'already-exists' && error.extras.fields?.[0]?.path.endsWith('path') === true)
  );
}

/** A record of the collection of files is what is shown of a file. */
export const presentFile = (record: JsonObject): FileDocument => record as unknown as FileDocument;

/** @throws {Problem} invalid-input, where a property has the name of what the service knows of a file */
export function demandProperties(properties: JsonObject): void {
  const taken = Object.keys(properties).filter((name) => FILE_FACTS.has(name));
  if (taken.length === 0) return;
  throw new Problem('invalid-input', `\`${taken[0]}\` of a file is set by the service, so no property can have that name.`, {
    fields: taken.map((name) => ({ path: `properties.${name}`, problem: 'The service sets it.', expected: 'another name' })),
  });
}
