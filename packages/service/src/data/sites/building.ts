/** Versions of sites, made of a ZIP, of a folder of files, or of the version before. */
import { createReadStream } from 'node:fs';
import { Readable } from 'node:stream';
import { buffer } from 'node:stream/consumers';
import { promisify } from 'node:util';
import { brotliCompress, constants, gzip } from 'node:zlib';
import { Problem } from '@orchard/contract';
import { type FilePath, FilePathError, readFilePath, type SiteContent, type SiteFile } from '@orchard/core';
import mime from 'mime-types';
import yauzl from 'yauzl';
import type { Environment } from '../../platform/call.js';
import type { Limit } from '../files/bytes.js';
import type { Contents } from '../files/contents.js';
import type { SiteFileMap } from './store.js';

/** Of one version. */
const MOST_FILES = 10_000;
const MOST_BYTES = 1_000_000_000;
/** Larger texts are sent as they are. */
const MOST_PACKED = 5_000_000;
const LEAST_PACKED = 1_000;
const PACKABLE = /^(text\/|application\/(javascript|json|xml|wasm|manifest\+json|geo\+json)|image\/svg)|\+(json|xml)$/;
/** What archives hold besides the files themselves. */
const LITTER = /(^|\/)(__MACOSX\/|\.DS_Store$|Thumbs\.db$|\.git\/)/;

const [brotli, zip] = [promisify(brotliCompress), promisify(gzip)];

export const siteTypeOf = (path: string): string => mime.lookup(path) || 'application/octet-stream';
const invalid = (problem: string) =>
  new Problem('invalid-input', problem, { fields: [{ path: 'body', problem, expected: 'a ZIP of the files of a site' }] });

export class SiteBuilding {
  constructor(private readonly contents: Contents) {}

  /** The files of a ZIP. One folder around everything is left out. @throws {Problem} invalid-input, file-too-large */
  async ofZip(environment: Environment, file: string): Promise<SiteFileMap> {
    const opened = await openZip(file);
    try {
      const entries = await entriesOf(opened);
      // What it says of itself; while it is unpacked, what there is decides.
      if (entries.reduce((sum, { uncompressedSize }) => sum + uncompressedSize, 0) > MOST_BYTES)
        throw limitOf(MOST_BYTES).refuse(MOST_BYTES);
      const around = folderAround(entries.map(({ fileName }) => fileName));
      const files = new Map<string, SiteFile>();
      let rest = MOST_BYTES;
      for (const entry of entries) {
        const { path } = pathOf(entry.fileName.slice(around.length));
        const content = await promisify(opened.openReadStream.bind(opened))(entry);
        // It may fail once more when it was given up, and then nobody listens.
        content.on('error', () => undefined);
        const made = await this.keep(environment, path, content as Readable, limitOf(rest)).catch((error: unknown) => {
          throw error instanceof Problem ? error : invalid(`${entry.fileName} cannot be unpacked: ${(error as Error).message}.`);
        });
        rest -= made.size;
        files.set(path, made);
      }
      return files;
    } finally {
      opened.close();
    }
  }

  /** The files of a folder, which hold their contents already. */
  async ofFolder(environment: Environment, all: AsyncIterable<{ path: string; digest: string }>, folder: string): Promise<SiteFileMap> {
    const files = new Map<string, SiteFile>();
    let rest = MOST_BYTES;
    for await (const { path, digest } of all) {
      if (files.size >= MOST_FILES) throw invalid(`A version has at most ${MOST_FILES.toLocaleString('en')} files.`);
      const name = folder === '' ? path : path.slice(folder.length + 1);
      const made = await this.keep(environment, name, this.contents.bytes.read(environment.id, digest), limitOf(rest));
      rest -= made.size;
      files.set(name, made);
    }
    if (files.size === 0) throw new Problem('not-found', `There are no files in ${folder || 'the root'}.`);
    return files;
  }

  /** Keeps one file, and its packed forms where they are worth it. */
  async keep(environment: Environment, path: string, content: Readable, limit: Limit): Promise<SiteFile> {
    const arrived = await this.contents.bytes.take(environment.id, content, limit);
    const type = siteTypeOf(path);
    const { digest, size } = arrived;
    const packs = PACKABLE.test(type) && size >= LEAST_PACKED && size <= MOST_PACKED;
    const plain = packs ? await buffer(createReadStream(arrived.file)) : null;
    await this.contents.keep(environment, arrived);
    if (!plain) return { digest, size, type };
    const br = await this.#packed(environment, await brotli(plain, { params: { [constants.BROTLI_PARAM_QUALITY]: 9 } }), size);
    const gz = await this.#packed(environment, await zip(plain, { level: 9 }), size);
    return { digest, size, type, packed: { ...(br ? { br } : {}), ...(gz ? { gzip: gz } : {}) } };
  }

  async #packed(environment: Environment, bytes: Buffer, plain: number): Promise<SiteContent | null> {
    if (bytes.length > plain * 0.9) return null;
    const arrived = await this.contents.bytes.take(environment.id, Readable.from([bytes]));
    await this.contents.keep(environment, arrived);
    return { digest: arrived.digest, size: arrived.size };
  }
}

const limitOf = (bytes: number): Limit => ({
  bytes,
  refuse: () =>
    new Problem(
      'file-too-large',
      `A version of a site has at most ${MOST_BYTES.toLocaleString('en')} bytes, unpacked. Nothing was stored.`,
    ),
});

async function openZip(file: string): Promise<yauzl.ZipFile> {
  try {
    return await promisify<string, yauzl.Options, yauzl.ZipFile>(yauzl.open)(file, { lazyEntries: true, autoClose: false });
  } catch (error) {
    throw invalid(`This is no ZIP that can be read: ${(error as Error).message}.`);
  }
}

/** @throws {Problem} invalid-input, for paths that lead upward, too many files, links and locked archives */
function entriesOf(opened: yauzl.ZipFile): Promise<yauzl.Entry[]> {
  const entries: yauzl.Entry[] = [];
  return new Promise((resolve, reject) => {
    opened.on('entry', (entry: yauzl.Entry) => {
      const isFolder = entry.fileName.endsWith('/');
      if (entry.isEncrypted()) return reject(invalid(`${entry.fileName} is locked with a password.`));
      // The mode of the file on the machine that made the archive (ZIP application note, section 4.4.15).
      if (entry.externalFileAttributes >>> 28 === 0xa)
        return reject(invalid(`${entry.fileName} is a link to another file. Put the file itself there.`));
      if (!isFolder && !LITTER.test(entry.fileName)) entries.push(entry);
      if (entries.length > MOST_FILES) return reject(invalid(`A version has at most ${MOST_FILES.toLocaleString('en')} files.`));
      opened.readEntry();
    });
    opened.on('end', () => (entries.length > 0 ? resolve(entries) : reject(invalid('The ZIP holds no files.'))));
    opened.on('error', (error: Error) => reject(invalid(`The ZIP cannot be used: ${error.message}.`)));
    opened.readEntry();
  });
}

/** The one folder that everything lies in, where there is no page beside it. */
function folderAround(names: readonly string[]): string {
  const first = names[0] ?? '';
  const folder = first.slice(0, first.indexOf('/') + 1);
  return folder !== '' && names.every((name) => name.startsWith(folder)) ? folder : '';
}

/** @throws {Problem} invalid-input */
export function pathOf(name: string): FilePath {
  try {
    return readFilePath(name);
  } catch (error) {
    if (error instanceof FilePathError) throw invalid(`${name}: ${error.message}`);
    throw error;
  }
}
