/** Files on their way: up in parts that continue where they broke (tus 1.0), and down in ranges. */
import {
  createReadStream,
  createWriteStream,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  renameSync,
  statSync,
  writeFileSync,
} from 'node:fs';
import { basename, dirname, join, relative, resolve, sep } from 'node:path';
import { Readable, Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { operations, Problem } from '@orchard/contract';
import type progress from 'cli-progress';
import { CommandError, type workspace } from './context.js';
import { isBarShown, newBar } from './progressBar.js';
import { settingsDirectory } from './settings.js';

type Place = ReturnType<typeof workspace>;
const own = operations.managedFiles;
const TUS = { 'Tus-Resumable': '1.0.0' };
/** Smaller files go up in one call. */
const IN_PARTS = 8 * 1024 * 1024;
const PART = 16 * 1024 * 1024;
const BAR = ' {bar} {percentage} %  {name}  {done} of {all}';

export type Local = { file: string; size: number; to: string };

export const bytesWords = (bytes: number): string => {
  const units = ['B', 'kB', 'MB', 'GB', 'TB'];
  let [value, at] = [bytes, 0];
  while (value >= 1000 && at < units.length - 1) {
    value /= 1000;
    at++;
  }
  return `${at === 0 ? value : value.toFixed(value < 10 ? 1 : 0)} ${units[at]}`;
};

/** The files of a path of this machine, and where each goes: below `to`, or as `to` where that names a file. */
export function localFiles(path: string, to: string | undefined): Local[] {
  if (!existsSync(path)) throw new CommandError(`There is no file ${path}.`, 2);
  const stat = statSync(path);
  const target = (to ?? '').replace(/\/+$/, '');
  if (!stat.isDirectory()) {
    const isFolder = to === undefined || to === '' || to.endsWith('/');
    return [{ file: path, size: stat.size, to: isFolder ? [target, basename(path)].filter(Boolean).join('/') : target }];
  }
  return readdirSync(path, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map((entry) => {
      const file = join(entry.parentPath, entry.name);
      const below = relative(path, file).split(sep).join('/');
      return { file, size: statSync(file).size, to: [target || basename(resolve(path)), below].join('/') };
    })
    .sort((a, b) => (a.to < b.to ? -1 : 1));
}

/** A bar over all bytes of a transfer. */
export class TransferBar {
  readonly #bar: progress.SingleBar | null;
  #done = 0;

  constructor(
    private readonly total: number,
    options: Place['options'],
  ) {
    this.#bar = isBarShown(options) && total > 0 ? newBar(BAR) : null;
    this.#bar?.start(total, 0, { name: '', done: '0 B', all: bytesWords(total) });
  }

  add(bytes: number, name: string): void {
    this.#done += bytes;
    this.#bar?.update(Math.min(this.#done, this.total), { name, done: bytesWords(this.#done), all: bytesWords(this.total) });
  }

  counting(name: string): Transform {
    return new Transform({
      transform: (chunk: Buffer, _encoding, done) => {
        this.add(chunk.length, name);
        done(null, chunk);
      },
    });
  }

  stop(): void {
    this.#bar?.stop();
  }
}

/** Where unfinished uploads go on, by what is uploaded where. */
class Unfinished {
  readonly #path = join(settingsDirectory(), 'uploads.json');

  #read(): Record<string, string> {
    try {
      return JSON.parse(readFileSync(this.#path, 'utf8'));
    } catch {
      return {};
    }
  }

  find(key: string): string | undefined {
    return this.#read()[key];
  }

  set(key: string, upload: string | null): void {
    const all = this.#read();
    if (upload === null) delete all[key];
    else all[key] = upload;
    mkdirSync(dirname(this.#path), { recursive: true });
    writeFileSync(this.#path, JSON.stringify(all), { mode: 0o600 });
  }
}

/** @returns how many bytes of it were there already */
export async function upload(place: Place, local: Local, properties: string | undefined, bar: TransferBar): Promise<number> {
  if (local.size > IN_PARTS) return uploadInParts(place, local, properties, bar);
  const raw = local.size === 0 ? Buffer.alloc(0) : Readable.toWeb(createReadStream(local.file).pipe(bar.counting(local.to)));
  await place.client.open(own.put, {
    params: { ...place.params, path: local.to },
    query: properties ? { properties } : {},
    headers: { 'content-type': 'application/octet-stream', ...(local.size > 0 ? { 'content-length': String(local.size) } : {}) },
    raw: raw as never,
  });
  return 0;
}

async function uploadInParts(
  { client, params }: Place,
  { file, size, to }: Local,
  properties: string | undefined,
  bar: TransferBar,
): Promise<number> {
  const unfinished = new Unfinished();
  const key = [client.address, params.app, params.environment, to, resolve(file), size, statSync(file).mtimeMs].join(' ');
  const known = unfinished.find(key);
  let [id, offset] = known ? [known, await offsetOf(known)] : ['', null];
  if (offset === null) {
    const encoded = (text: string) => Buffer.from(text).toString('base64');
    const metadata = [`path ${encoded(to)}`, ...(properties ? [`properties ${encoded(properties)}`] : [])].join(',');
    const begun = await client.open(own.begin, { params, headers: { ...TUS, 'Upload-Length': String(size), 'Upload-Metadata': metadata } });
    id = (begun.headers.get('location') as string).split('/').at(-1) as string;
    offset = 0;
    unfinished.set(key, id);
  }
  const there = offset;
  bar.add(there, to);
  while (offset < size) {
    const end = Math.min(offset + PART, size);
    const raw = Readable.toWeb(createReadStream(file, { start: offset, end: end - 1 }).pipe(bar.counting(to))) as never;
    await client.open(own.append, {
      params: { ...params, upload: id },
      headers: {
        ...TUS,
        'Upload-Offset': String(offset),
        'content-type': 'application/offset+octet-stream',
        'content-length': String(end - offset),
      },
      raw,
    });
    offset = end;
  }
  unfinished.set(key, null);
  return there;

  async function offsetOf(upload: string): Promise<number | null> {
    try {
      const state = await client.open(own.offset, { params: { ...params, upload }, headers: TUS });
      return Number(state.headers.get('upload-offset'));
    } catch (error) {
      if (error instanceof Problem) return null;
      throw error;
    }
  }
}

/** Writes a file, beside its place until it is whole; what an earlier try left is not read again. */
export async function download({ client, params, options }: Place, path: string, to: string): Promise<{ size: number; there: number }> {
  const at = { ...params, path };
  const { size, digest } = await client.call(own.describe, { params: at });
  const partial = `${to}.${digest.slice(0, 12)}.part`;
  mkdirSync(dirname(resolve(to)), { recursive: true });
  const there = existsSync(partial) ? Math.min(statSync(partial).size, size) : 0;
  const bar = new TransferBar(size, options);
  bar.add(there, path);
  try {
    if (there < size || size === 0) {
      const headers: Record<string, string> = there > 0 ? { Range: `bytes=${there}-`, 'If-Range': `"${digest}"` } : {};
      const reply = await client.open(own.get, { params: at, headers });
      const flags = reply.status === 206 ? 'a' : 'w';
      const body = reply.body ? Readable.fromWeb(reply.body as never) : Readable.from([]);
      await pipeline(body, bar.counting(path), createWriteStream(partial, { flags }));
    }
  } finally {
    bar.stop();
  }
  renameSync(partial, to);
  return { size, there };
}
