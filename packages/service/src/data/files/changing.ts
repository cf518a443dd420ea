/** Changing files: their properties and place, their deletion, and bringing them back. */
import { type FileDocument, type FolderDocument, Problem } from '@orchard/contract';
import { type FilePath, foldersAbove, type JsonObject, liesIn, movedPath, readFilePath } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import { FILES } from '../collections/filesShape.js';
import { presentRow } from '../collections/shape.js';
import type { Expected } from '../records/forms.js';
import type { WritePlace } from '../records/gate.js';
import type { AskedWrite, HookedWrite } from '../records/ports.js';
import { addDeleted, type FileRow, fileAt, filesWithin, findDeleted, forgetDeleted } from './fileStore.js';
import { ensureFolder, foldersWithin, removeFolders, writeFolder } from './folderStore.js';
import type { Parts } from './parts.js';
import { filePathOf } from './paths.js';
import { demandProperties, type FileStoring, presentFile } from './storing.js';

/** The most files that one call moves or deletes. */
const MOST_AT_ONCE = 10_000;

export class FileChanges {
  constructor(
    private readonly parts: Parts,
    private readonly storing: FileStoring,
    private readonly find: (environment: Environment, named: string) => Promise<FileRow | null>,
  ) {}

  /** @throws {Problem} not-found, access-refused, version-conflict, already-exists, invalid-input */
  async change(place: WritePlace, named: string, patch: JsonObject, expected: Expected): Promise<FileDocument> {
    const { path, ...properties } = patch;
    demandProperties(properties);
    if (path !== undefined && typeof path !== 'string') throw new Problem('invalid-input', '`path` is where the file goes: a text.');
    const to = path === undefined ? null : filePathOf(path, 'body.path');
    const { environment, author } = place;
    return this.storing.tried(async () => {
      const row = await this.storing.access.demandRow(environment, author, 'update', await this.find(environment, named), named);
      return presentFile((await this.#move(place, row, to ?? readFilePath(row.path), properties, expected)) as JsonObject);
    }, expected);
  }

  async #move(place: WritePlace, row: FileRow, to: FilePath, properties: JsonObject, expected: Expected): Promise<JsonObject | null> {
    const { environment, author } = place;
    const area = await this.storing.folders.areaOf(environment, to.folder);
    const record = to.path === row.path ? properties : { ...properties, ...to, rulesFrom: area };
    const shape = await this.parts.catalogue.files(environment);
    const before = presentRow(shape, row, null, true);
    await this.storing.access.demand(environment, author, 'update', { ...before, ...record });
    const asked: AskedWrite = {
      action: 'change',
      collection: FILES,
      id: row.id,
      record,
      expected: { version: expected.version ?? row.version },
    };
    return (await this.storing.write(place, asked, to.folder, area, async (_on, write) => write())).record;
  }

  /** @throws {Problem} not-found, access-refused, version-conflict, still-referenced */
  async remove(place: WritePlace, named: string, expected: Expected): Promise<void> {
    const { environment, author } = place;
    await this.storing.tried(async () => {
      const row = await this.storing.access.demandRow(environment, author, 'delete', await this.find(environment, named), named);
      await this.removeRow(place, row, expected);
    }, expected);
  }

  async removeRow(place: WritePlace, row: FileRow, expected: Expected): Promise<void> {
    const { environment, author } = place;
    const shape = await this.parts.catalogue.files(environment);
    const asked: AskedWrite = {
      action: 'remove',
      collection: FILES,
      id: row.id,
      record: {},
      expected: { version: expected.version ?? row.version },
    };
    await this.storing.gate.write(place, asked, true, async (on, write) => {
      const done = await write();
      await addDeleted(on, environment, row, presentRow(shape, row, null, true), author.by, new Date(this.parts.now()));
      return done;
    });
  }

  /** Brings a deleted file back, under its id. @throws {Problem} not-found, access-refused, already-exists, quota-exceeded */
  async restore(place: WritePlace, id: string, path: string | undefined): Promise<FileDocument> {
    const { environment, author } = place;
    const shape = await this.parts.catalogue.files(environment);
    return this.storing.tried(async () => {
      const gone = await findDeleted(environment.db, environment, id);
      if (!gone || (!author.trusted && gone.ownerId !== author.userId))
        throw new Problem('not-found', `There is no deleted file ${id} to bring back.`);
      const to = path === undefined ? readFilePath(gone.path) : filePathOf(path, 'body.path');
      if (await fileAt(environment.db, shape, to.path))
        throw new Problem('already-exists', `There is a file ${to.path} already. Name another \`path\` to bring this one back to.`);
      const area = await this.storing.folders.areaOf(environment, to.folder);
      const { id: _i, createdAt: _c, updatedAt: _u, version: _v, ownerId, ...values } = gone.record;
      const record = { ...values, ...to, rulesFrom: area, ...(author.trusted ? { ownerId } : {}) };
      await this.storing.access.demand(environment, author, 'create', { ...record, ownerId: gone.ownerId });
      const asked: AskedWrite = { action: 'create', collection: FILES, id: '', record: { id, ...record } as JsonObject, expected: {} };
      const written = await this.storing.write(place, asked, to.folder, area, async (on, write) => {
        const done = await write();
        await forgetDeleted(on, environment, id);
        await this.storing.demandRoom(on, environment, shape, gone.ownerId);
        return done;
      });
      return presentFile(written.record as JsonObject);
    }, {});
  }

  /** Moves a folder with all that is in it. @throws {Problem} not-found, access-refused, already-exists, invalid-input */
  async moveFolder(place: WritePlace, from: string, to: string): Promise<FolderDocument> {
    const { environment, author } = place;
    if (from === '' || to === '' || liesIn(to, from))
      throw new Problem(
        'invalid-input',
        from === '' || to === '' ? 'The root cannot be moved.' : `${to} lies in ${from}, so ${from} cannot go there.`,
      );
    await this.storing.folders.demand(environment, from);
    const asked = await this.#askedMoves(place, from, to);
    const records = this.storing.gate.records;
    await records.attempt(environment, true, async (on) => {
      const now = new Date(this.parts.now());
      const all = await foldersWithin(on, environment, from);
      await ensureFolder(on, environment, to, author.by, now);
      for (const folder of all)
        await writeFolder(
          on,
          environment,
          { ...folder, path: folder.path === from ? to : movedPath(folder.path, from, to) },
          author.by,
          now,
        );
      await removeFolders(
        on,
        environment,
        all.map(({ path }) => path),
      );
      await this.#doAll(on, place, asked);
    });
    await this.storing.folders.compose(environment);
    return { path: to, name: to.slice(to.lastIndexOf('/') + 1), public: await this.storing.folders.isPublic(environment, to) };
  }

  /** What hooks are asked before the transaction begins, so that no connection waits for their code. */
  async #askedMoves(place: WritePlace, from: string, to: string) {
    const { environment, author } = place;
    const shape = await this.parts.catalogue.files(environment);
    const { areas } = await this.storing.folders.special(environment);
    const special = await this.storing.folders.specialWithin(environment, from);
    if (special.length > 0 && !author.trusted)
      throw new Problem('access-refused', `${special.join(' and ')} has rules of its own, so only the team may move it.`);
    // As the folders will be: rules of their own go with those that move.
    const after = new Set([...areas.keys()].map((path) => (path !== '' && liesIn(path, from) ? movedPath(path, from, to) : path)));
    const rows = await this.#rows(environment, from);
    return Promise.all(
      rows.map(async (row) => {
        const path = readFilePath(movedPath(row.path, from, to));
        const area = foldersAbove(path.folder).find((folder) => after.has(folder)) ?? '';
        const before = presentRow(shape, row, null, true);
        await this.storing.access.demandRow(environment, author, 'update', row, row.path);
        if (special.length === 0) await this.storing.access.demand(environment, author, 'update', { ...before, ...path, rulesFrom: area });
        return this.#ask(place, {
          action: 'change',
          collection: FILES,
          id: row.id,
          record: { ...path, rulesFrom: area },
          expected: { version: row.version },
        });
      }),
    );
  }

  /** @throws {Problem} folder-not-empty, access-refused */
  async removeFolder(place: WritePlace, folder: string, withFiles: boolean): Promise<void> {
    const { environment, author } = place;
    if (folder === '') throw new Problem('invalid-input', 'The root cannot be deleted.');
    await this.storing.folders.demand(environment, folder);
    const rows = await this.#rows(environment, folder);
    if (rows.length > 0 && !withFiles)
      throw new Problem('folder-not-empty', `${folder} holds ${rows.length} files. Add \`files=true\` to delete them, too.`);
    const special = await this.storing.folders.specialWithin(environment, folder);
    if (!author.trusted && (special.length > 0 || rows.length === 0))
      throw new Problem('access-refused', 'Only the team and its servers delete empty folders, and those with rules of their own.');
    for (const row of rows) await this.storing.access.demandRow(environment, author, 'delete', row, row.path);
    const asked = await Promise.all(
      rows.map((row) =>
        this.#ask(place, { action: 'remove', collection: FILES, id: row.id, record: {}, expected: { version: row.version } }),
      ),
    );
    const shape = await this.parts.catalogue.files(environment);
    await this.storing.gate.records.attempt(environment, true, async (on) => {
      await this.#doAll(on, place, asked);
      for (const row of rows)
        await addDeleted(on, environment, row, presentRow(shape, row, null, true), author.by, new Date(this.parts.now()));
      const all = await foldersWithin(on, environment, folder);
      await removeFolders(
        on,
        environment,
        all.map(({ path }) => path),
      );
    });
    if (special.length > 0) await this.storing.folders.compose(environment);
  }

  async #rows(environment: Environment, folder: string): Promise<FileRow[]> {
    const shape = await this.parts.catalogue.files(environment);
    const rows = await filesWithin(environment.db, shape, folder, MOST_AT_ONCE + 1);
    if (rows.length > MOST_AT_ONCE)
      throw new Problem(
        'invalid-input',
        `${folder} holds more than ${MOST_AT_ONCE.toLocaleString('en')} files. Take its folders one by one.`,
      );
    return rows;
  }

  async #ask(place: WritePlace, asked: AskedWrite) {
    return { asked, hooked: await this.storing.gate.ask(place, asked) };
  }

  async #doAll(
    on: Statements,
    { environment, author }: WritePlace,
    all: readonly { asked: AskedWrite; hooked: HookedWrite | null }[],
  ): Promise<void> {
    for (const { asked, hooked } of all) await this.storing.gate.do(on, environment, author, asked, hooked);
  }
}
