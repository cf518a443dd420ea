/** Reading files: lists, contents, and what happens to them. */
import { type FileDocument, type FolderDocument, type operations, Problem } from '@orchard/contract';
import { bothConditions, FilterError, inFolder } from '@orchard/core';
import { type Call, type Environment, environmentOf } from '../../platform/call.js';
import { EventStream } from '../../platform/live/eventStream.js';
import { FILES } from '../collections/filesShape.js';
import { type Author, authorOf } from '../records/author.js';
import { RecordLists } from '../records/listStore.js';
import { checkLive, readLastEvent, streamRecords } from '../records/liveRecords.js';
import { narrowed } from '../records/narrowing.js';
import { Summaries } from '../records/summaryStore.js';
import type { Records } from '../records/records.js';
import type { FileAccess } from './access.js';
import { missingFile } from './access.js';
import type { Content } from './answering.js';
import { type FileRow, fileAt, fileOf, findEdition } from './fileStore.js';
import { foldersIn } from './folderStore.js';
import type { Folders } from './folders.js';
import type { Parts } from './parts.js';
import { filePathOf, folderPathOf, idIn } from './paths.js';
import type { Rendition, Renditions, RenditionWish } from './renditions.js';
import { presentFile } from './storing.js';

type ListCall = Call<(typeof operations.folders)['list']>;
type ListQuery = ListCall['query'];
export type ContentQuery = RenditionWish & { edition?: number | undefined; download?: boolean | undefined };
/** The most folders whose files are counted for one list. */
const MOST_COUNTED = 1_000;

export class FileReading {
  readonly #lists: RecordLists;
  readonly #summaries: Summaries;

  constructor(
    private readonly parts: Parts,
    records: Records,
    private readonly folders: Folders,
    private readonly access: FileAccess,
    private readonly renditions: Renditions,
  ) {
    this.#lists = new RecordLists(parts, records);
    this.#summaries = new Summaries(parts, records);
  }

  /** The file that an address names, by its path or by `@` and its id. @throws {Problem} invalid-input */
  async find(environment: Environment, named: string): Promise<FileRow | null> {
    const shape = await this.parts.catalogue.files(environment);
    const id = idIn(named);
    return id === null ? fileAt(environment.db, shape, filePathOf(named).path) : fileOf(environment.db, shape, id);
  }

  async readable(environment: Environment, author: Author, named: string): Promise<FileRow> {
    return this.access.demandRow(environment, author, 'read', await this.find(environment, named), named);
  }

  /** A file of a public folder. @throws {Problem} not-found */
  async open(environment: Environment, named: string): Promise<FileRow> {
    const row = await this.find(environment, named);
    if (!row || !(await this.folders.isPublic(environment, row.folder))) throw missingFile(named, { told: false, userId: null });
    return row;
  }

  /** What is answered of a file: an edition of it, or a rendition. @throws {Problem} not-found, no-rendition */
  async content(
    environment: Environment,
    row: FileRow,
    query: ContentQuery,
    accept: string | undefined,
    cache: 'private' | 'public',
  ): Promise<Content> {
    const source = await this.#edition(environment, row, query.edition);
    const made = await this.renditions.of(environment, { ...source, path: row.path }, query, accept);
    const { digest, size, type } = made ?? source;
    return {
      digest,
      size,
      type,
      name: made ? renamed(row.name, made) : row.name,
      at: source.at,
      immutable: query.edition !== undefined,
      cache,
      download: query.download ?? false,
      ...(made?.negotiated ? { vary: 'Accept' } : {}),
    };
  }

  async #edition(
    environment: Environment,
    row: FileRow,
    edition: number | undefined,
  ): Promise<{ digest: string; size: number; type: string; at: Date }> {
    if (edition === undefined || edition === row.edition)
      return { digest: row.digest, size: Number(row.size), type: row.type, at: row.updatedAt };
    const found = await findEdition(environment, row.id, edition);
    if (!found) throw new Problem('not-found', `No edition ${edition} of ${row.path} is kept; it is at edition ${row.edition}.`);
    return { digest: found.digest, size: Number(found.size), type: found.type, at: found.at };
  }

  /** @throws {Problem} malformed-filter, not-found */
  async list(
    call: Call,
    named: string,
    { deep = false, filter, ...query }: ListQuery,
  ): Promise<{ items: FileDocument[]; folders: FolderDocument[]; next?: string; count?: number }> {
    const author = authorOf(call);
    const folder = folderPathOf(named);
    await this.parts.catalogue.files(environmentOf(call));
    const placed = { ...call, params: { collection: FILES } };
    const request = { ...query, filter: within(folder, deep, filter) };
    const { environment, query: asked } = await narrowed(this.parts, placed, 'list', request);
    const { items, ...page } = await this.#lists.list(environment, FILES, asked, author);
    const isFirst = !deep && !filter && !query.cursor;
    const folders = isFirst ? await this.#folders(environment, folder, author, query.count ?? false) : [];
    if (items.length === 0 && folders.length === 0 && author.trusted) await this.folders.demand(environment, folder);
    const shown = await this.parts.recordPorts.hooks.reshape(environment, author, { collection: FILES, action: 'list', items });
    return { ...page, items: shown.map(presentFile), folders };
  }

  /** A page of files, for functions of the team. @throws {Problem} malformed-filter */
  async page(
    environment: Environment,
    author: Author,
    named: string,
    { deep = false, filter, ...query }: Omit<ListQuery, 'fields' | 'count'>,
  ) {
    await this.parts.catalogue.files(environment);
    const { items, ...page } = await this.#lists.list(
      environment,
      FILES,
      { ...query, filter: within(folderPathOf(named), deep, filter) },
      author,
    );
    return { ...page, items: items.map(presentFile) };
  }

  async #folders(environment: Environment, folder: string, author: Author, count: boolean): Promise<FolderDocument[]> {
    const shapes = await this.parts.catalogue.shapes(environment, FILES);
    const shape = await this.parts.catalogue.files(environment);
    const found = await foldersIn(environment, folder, { shapes, shape, author, now: this.parts.now() });
    const sums = count ? await this.#sums(environment, folder, author) : null;
    return found.map((one) => ({
      ...one,
      name: one.path.slice(one.path.lastIndexOf('/') + 1),
      ...(sums ? (sums.get(one.path) ?? { files: 0, bytes: 0 }) : {}),
    }));
  }

  /** Numbers and bytes of the files in each folder of a folder, with all below. */
  async #sums(environment: Environment, folder: string, author: Author): Promise<Map<string, { files: number; bytes: number }>> {
    const request = { group: 'folder', measure: 'count,sum:size', filter: within(folder, true, undefined), limit: MOST_COUNTED };
    const { groups } = await this.#summaries.summarise(environment, FILES, request, author);
    const sums = new Map<string, { files: number; bytes: number }>();
    for (const group of groups) {
      const below = String(group.folder).slice(folder === '' ? 0 : folder.length + 1);
      if (below === '') continue;
      const path = [folder, below.split('/')[0]].filter(Boolean).join('/');
      const sum = sums.get(path) ?? { files: 0, bytes: 0 };
      sums.set(path, { files: sum.files + Number(group.count), bytes: sum.bytes + Number(group['sum:size'] ?? 0) });
    }
    return sums;
  }

  /** The files of a folder and below that the author may read, a page at a time. */
  async *all(environment: Environment, folder: string, filter: string | undefined, author: Author): AsyncGenerator<FileDocument> {
    let cursor: string | undefined;
    do {
      const page = await this.#lists.list(
        environment,
        FILES,
        { filter: within(folder, true, filter), sort: 'path', limit: 500, cursor },
        author,
      );
      for (const item of page.items) yield presentFile(item);
      cursor = page.next;
    } while (cursor);
  }

  async live(call: Call, folder: string, filter: string | undefined): Promise<'streaming'> {
    const author = authorOf(call);
    await this.parts.catalogue.files(environmentOf(call));
    const watched = { filter: within(folderPathOf(folder, 'query.folder'), true, filter) };
    const lastEvent = readLastEvent(call.headers['last-event-id']);
    const { environment } = await narrowed(this.parts, { ...call, params: { collection: FILES } }, 'list', watched);
    await checkLive(this.parts, environment, FILES, author, watched.filter);
    await streamRecords(this.parts, environment, FILES, author, new EventStream(call, this.parts), watched, lastEvent);
    return 'streaming';
  }
}

/** @throws {Problem} malformed-filter */
function within(folder: string, deep: boolean, filter: string | undefined): string | undefined {
  try {
    return bothConditions(inFolder(folder, deep), filter);
  } catch (error) {
    if (error instanceof FilterError) throw new Problem('malformed-filter', `${error.message}.`);
    throw error;
  }
}

const renamed = (name: string, { type }: Rendition): string =>
  `${name.replace(/\.[^.]+$/, '')}.${type.slice('image/'.length).replace('jpeg', 'jpg')}`;
