/** Resumable uploads by tus 1.0.0, with its extensions creation, creation-with-upload, termination and expiration. */
import { createWriteStream } from 'node:fs';
import { open, rm, stat } from 'node:fs/promises';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { LRUCache } from 'lru-cache';
import { Problem } from '@orchard/contract';
import { type Locker, MemoryLocker, Server } from '@tus/server';
import { DataStore, Upload } from '@tus/utils';
import { NodeRequest, sendNodeResponse } from 'srvx/node';
import { type Call, environmentOf } from '../../platform/call.js';
import { type Author, authorOf } from '../records/author.js';
import { authorKept, keptAuthor } from './addressing.js';
import { type Arrived, Measure, writingProblem, WRITE_BUFFER } from './bytes.js';
import type { Contents } from './contents.js';
import type { Parts } from './parts.js';
import { filePathOf } from './paths.js';
import { propertiesIn } from './receiving.js';
import type { FileStoring } from './storing.js';
import { addUpload, findUpload, removeUpload, setUploadSize, type UploadRow } from './uploadStore.js';

/** How long an upload may go on. */
const LIFE_MS = 24 * 3_600_000;
/** What arrived in one run from the first byte to the last was measured on its way, and is not read again. */
const MOST_MEASURED = 1_000;
type Measured = LRUCache<string, Omit<Arrived, 'file'>>;

export class ResumableUploads {
  /** Within this instance one call at a time writes to an upload; the offset it names holds across instances. */
  readonly #locker: Locker = new MemoryLocker();
  readonly #measured: Measured = new LRUCache({ max: MOST_MEASURED });

  constructor(
    private readonly parts: Parts,
    private readonly storing: FileStoring,
    private readonly contents: Contents,
  ) {}

  /** @throws {Problem} upload-refused, not-found, and those of storing */
  async handle(call: Call): Promise<'streaming'> {
    const { request, response } = call;
    const store = new UploadParts(this.parts, this.contents, this.storing, this.#measured, call);
    let problem: unknown = null;
    const limit = call.environment ? (await this.contents.limitOf(call.environment)).bytes : undefined;
    const server = new Server({
      path: (request.originalUrl.split('?')[0] as string).replace(/\/uploads(\/[^/]*)?$/, '/uploads'),
      datastore: store,
      locker: this.#locker,
      ...(limit === undefined ? {} : { maxSize: limit }),
      namingFunction: () => this.parts.newId(),
      generateUrl: (_request, { path, id }) => `${this.parts.address()}${path}/${id}`,
      onUploadFinish: async (_request, upload) => {
        await store.finish(upload);
        return {};
      },
      onResponseError: (_request, error) => {
        problem = error;
        return undefined;
      },
    });
    const kept = new Map(Object.entries(response.getHeaders()));
    const answer = await server.handleWeb(new NodeRequest({ req: request, res: response }));
    if (problem) throw await refusal(problem, answer);
    if (answer.status >= 400) throw await refusal(null, answer);
    // Which pages may read the answer is the service's to say.
    for (const name of ['access-control-allow-origin', 'access-control-expose-headers']) answer.headers.delete(name);
    for (const [name, value] of kept) if (!answer.headers.has(name) && value !== undefined) answer.headers.set(name, String(value));
    await sendNodeResponse(response, answer);
    return 'streaming';
  }
}

async function refusal(problem: unknown, answer: Response): Promise<unknown> {
  if (problem instanceof Problem) return problem;
  const { status_code: code, body } = (problem ?? {}) as { status_code?: number; body?: string };
  const status = code ?? answer.status;
  if (status === 404 || status === 410)
    return new Problem('not-found', 'There is no such upload. It was finished or given up, or its time is over.');
  if (status === 413) return new Problem('file-too-large');
  if (problem instanceof Error && code === undefined) return writingProblem(problem);
  const said = (body ?? (await answer.text())).trim();
  return new Problem(
    'upload-refused',
    `${said || 'The call does not follow tus 1.0.0'}. See tus 1.0.0, and send \`Tus-Resumable: 1.0.0\`.`,
    { status },
  );
}

/** The parts of one upload, in a file beside the contents, and a row that says what they become. */
class UploadParts extends DataStore {
  constructor(
    private readonly parts: Parts,
    private readonly contents: Contents,
    private readonly storing: FileStoring,
    private readonly measured: Measured,
    private readonly call: Call,
  ) {
    super();
    this.extensions = ['creation', 'creation-with-upload', 'termination', 'expiration'];
  }

  get #environment() {
    return environmentOf(this.call);
  }

  #scratch(id: string): Promise<string> {
    return this.contents.bytes.scratch(this.#environment.id, id);
  }

  override async create(upload: Upload): Promise<Upload> {
    const author = authorOf(this.call);
    const named = upload.metadata?.path ?? upload.metadata?.filename;
    if (!named)
      throw new Problem('invalid-input', 'Where the file goes is missing.', {
        fields: [{ path: 'headers.Upload-Metadata', problem: 'It holds no `path`.', expected: '`path` and the base64 of the path' }],
      });
    const path = filePathOf(named, 'headers.Upload-Metadata.path');
    const properties = propertiesIn(upload.metadata?.properties, 'headers.Upload-Metadata.properties');
    await this.storing.demandBefore({ environment: this.#environment, author }, path, { properties, expected: {} });
    await this.contents.bytes.demandRoom(upload.size ?? 0);
    const now = this.parts.now();
    const row: UploadRow = {
      id: upload.id,
      kind: 'parts',
      secret: '',
      path: path.path,
      properties,
      size: upload.size ?? null,
      type: null,
      replace: true,
      by: author.by,
      author: { ...keptAuthor(author), trusted: author.trusted },
      until: new Date(now + LIFE_MS),
      createdAt: new Date(now),
      usedAt: null,
    };
    await (await open(await this.#scratch(upload.id), 'wx', 0o600)).close();
    await addUpload(this.#environment, row);
    return upload;
  }

  /** Only whoever began an upload goes on with it. @throws what tus answers 404 for */
  async #row(id: string): Promise<UploadRow> {
    const row = await findUpload(this.#environment, id);
    if (!row || row.by !== authorOf(this.call).by || row.until.getTime() <= this.parts.now()) throw { status_code: 404, body: 'not found' };
    return row;
  }

  override async getUpload(id: string): Promise<Upload> {
    const row = await this.#row(id);
    const { size: offset } = await stat(await this.#scratch(id)).catch(() => {
      throw { status_code: 404, body: 'not found' };
    });
    return new Upload({
      id,
      offset,
      ...(row.size === null ? {} : { size: Number(row.size) }),
      creation_date: row.createdAt.toISOString(),
      metadata: { path: row.path },
    });
  }

  override async write(content: Readable, id: string, offset: number): Promise<number> {
    const file = await this.#scratch(id);
    const target = createWriteStream(file, { flags: 'r+', start: offset, flush: true, highWaterMark: WRITE_BUFFER });
    this.measured.delete(id);
    try {
      if (offset > 0) await pipeline(content, target);
      else {
        const measure = new Measure();
        await pipeline(content, measure, target);
        this.measured.set(id, await measure.result());
      }
    } catch (error) {
      // What arrived before the line broke stays: the caller asks where to go on.
      const known = writingProblem(error);
      if (known instanceof Problem && known.problem === 'storage-full') throw known;
      if (!(known instanceof Problem)) throw error;
    }
    return (await stat(file)).size;
  }

  override async declareUploadLength(id: string, size: number): Promise<void> {
    await setUploadSize(this.#environment, id, size);
  }

  override async remove(id: string): Promise<void> {
    await this.#row(id);
    await removeUpload(this.#environment, id);
    await rm(await this.#scratch(id), { force: true });
  }

  override getExpiration(): number {
    return LIFE_MS;
  }

  /** The last part has arrived: it becomes a file. */
  async finish({ id }: Upload): Promise<void> {
    const row = await this.#row(id);
    const scratch = await this.#scratch(id);
    const known = this.measured.get(id);
    this.measured.delete(id);
    const { size } = await stat(scratch);
    const arrived = known?.size === size ? { file: scratch, ...known } : await this.contents.bytes.measure(scratch);
    const own = authorOf(this.call);
    const author: Author = own.trusted ? authorKept(row.author) : own;
    const wish = { properties: row.properties, expected: {}, ...(own.trusted ? { ownerId: author.userId } : {}) };
    await this.storing.store({ environment: this.#environment, author }, filePathOf(row.path), arrived, wish);
    await removeUpload(this.#environment, id);
  }
}
