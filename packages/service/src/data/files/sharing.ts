/** Share links: addresses that let whoever has one download a file. */
import { Problem, type ShareLinkDocument } from '@orchard/contract';
import type { Call, Environment } from '../../platform/call.js';
import { hashKey, hashPassword, newSecret, verifyPassword } from '../../platform/access/secrets.js';
import { readForm } from '../../platform/http/forms.js';
import type { Author } from '../records/author.js';
import type { FileAccess } from './access.js';
import type { Content } from './answering.js';
import { type FileRow, fileOf } from './fileStore.js';
import type { Parts } from './parts.js';
import type { FileReading } from './reading.js';
import { sharePage } from './sharePage.js';
import { addShareLink, countShare, findShareLink, listShareLinks, removeShareLink, type ShareLinkRow } from './uploadStore.js';

const WEEK_MS = 7 * 86_400_000;

/** A time in a body that has to lie ahead. @throws {Problem} invalid-input */
export function untilOf(text: string | undefined, now: number, otherwiseMs: number): Date {
  const until = text === undefined ? new Date(now + otherwiseMs) : new Date(text);
  if (until.getTime() > now) return until;
  throw new Problem('invalid-input', `${text} is over already.`, {
    fields: [{ path: 'body.until', problem: 'It is over already.', expected: 'a time that lies ahead' }],
  });
}

export class Sharing {
  constructor(
    private readonly parts: Parts,
    private readonly access: FileAccess,
    private readonly reading: FileReading,
  ) {}

  /** Whoever may change a file may share it. @throws {Problem} not-found, access-refused, invalid-input */
  async make(
    environment: Environment,
    author: Author,
    {
      path,
      until,
      count,
      password,
    }: { path: string; until?: string | undefined; count?: number | undefined; password?: string | undefined },
  ): Promise<ShareLinkDocument & { address: string }> {
    const row = await this.access.demandRow(environment, author, 'update', await this.reading.find(environment, path), path);
    const secret = newSecret();
    const now = this.parts.now();
    const link: ShareLinkRow = {
      id: this.parts.newId(),
      secret: hashKey(secret),
      fileId: row.id,
      until: untilOf(until, now, WEEK_MS),
      count: count ?? null,
      used: 0,
      password: password === undefined ? null : await hashPassword(password),
      createdBy: author.by,
      createdAt: new Date(now),
    };
    await addShareLink(environment, link);
    const address = `${this.parts.address()}/files/${environment.app}/${environment.name}/shared/${secret}`;
    return { ...present(environment, link, row.path), address };
  }

  async list(environment: Environment): Promise<ShareLinkDocument[]> {
    const shape = await this.parts.catalogue.files(environment);
    const rows = await listShareLinks(environment, new Date(this.parts.now()));
    const files = await Promise.all(rows.map(({ fileId }) => fileOf(environment.db, shape, fileId)));
    return rows.map((row, i) => present(environment, row, files[i]?.path ?? null));
  }

  /** @throws {Problem} not-found */
  async end(environment: Environment, id: string): Promise<void> {
    if (!(await removeShareLink(environment, id))) throw new Problem('not-found', `There is no share link ${id}.`);
  }

  /** What is downloaded by a link; a page that asks for its password where there is one. @throws {Problem} not-found, share-link-ended */
  async open(call: Call, environment: Environment, secret: string): Promise<Content | 'streaming'> {
    const link = await this.#link(environment, secret);
    if (link.password !== null) return sharePage(call, (await this.#file(environment, link)).name, false);
    return this.#content(environment, link);
  }

  /** The same, by the form of that page. */
  async unlock(call: Call, environment: Environment, secret: string): Promise<Content | 'streaming'> {
    const link = await this.#link(environment, secret);
    const { password = '' } = await readForm(call);
    if (link.password === null || (await verifyPassword(link.password, password))) return this.#content(environment, link);
    return sharePage(call, (await this.#file(environment, link)).name, true);
  }

  async #link(environment: Environment, secret: string): Promise<ShareLinkRow> {
    const link = await findShareLink(environment, hashKey(secret));
    if (!link) throw new Problem('not-found', 'There is no such share link. It was mistyped, or ended by the team.');
    if (link.until && link.until.getTime() <= this.parts.now()) throw new Problem('share-link-ended');
    if (link.count !== null && link.used >= link.count) throw new Problem('share-link-ended');
    return link;
  }

  async #file(environment: Environment, { fileId }: ShareLinkRow): Promise<FileRow> {
    const row = await fileOf(environment.db, await this.parts.catalogue.files(environment), fileId);
    if (!row) throw new Problem('share-link-ended', 'The file of this link is gone.');
    return row;
  }

  async #content(environment: Environment, link: ShareLinkRow): Promise<Content> {
    const row = await this.#file(environment, link);
    if (!(await countShare(environment, link.id))) throw new Problem('share-link-ended');
    const content = await this.reading.content(environment, row, {}, undefined, 'private');
    return { ...content, cache: 'none', download: true };
  }
}

const present = ({ actors }: Environment, row: ShareLinkRow, path: string | null): ShareLinkDocument => ({
  id: row.id,
  path,
  until: row.until?.toISOString() ?? null,
  count: row.count,
  used: row.used,
  password: row.password !== null,
  createdBy: actors.show(row.createdBy),
  createdAt: row.createdAt.toISOString(),
});
