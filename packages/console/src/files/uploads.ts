/** Uploads of the page: in parts that can pause and go on (tus 1.0), a few files at a time. */
import { operations, Problem } from '@orchard/contract';
import { api, describeError, refreshCalls } from '../api.js';

const own = operations.managedFiles;
const PART = 8 * 1024 * 1024;
const AT_ONCE = 3;
const TUS = { 'Tus-Resumable': '1.0.0' };

export type UploadState = 'waiting' | 'going' | 'paused' | 'failed' | 'done';
export type Upload = {
  id: number;
  path: string;
  size: number;
  sent: number;
  state: UploadState;
  /** Why it failed. */
  trouble: string | null;
};
type Params = { app: string; environment: string };
/** @param path below the folder that it was dropped into */
export type Chosen = { file: File; path: string };

/** All uploads of a page. Changes are told to whoever subscribes. */
export class Uploads {
  #all: Upload[] = [];
  readonly #files = new Map<number, { file: File; upload: string | null; params: Params }>();
  readonly #subscribers = new Set<() => void>();
  #next = 1;

  subscribe = (told: () => void): (() => void) => {
    this.#subscribers.add(told);
    return () => this.#subscribers.delete(told);
  };
  all = (): readonly Upload[] => this.#all;

  add(params: Params, folder: string, chosen: readonly Chosen[]): void {
    const added = chosen.map(({ file, path }): Upload => {
      const id = this.#next++;
      this.#files.set(id, { file, upload: null, params });
      return { id, path: [folder, path].filter(Boolean).join('/'), size: file.size, sent: 0, state: 'waiting', trouble: null };
    });
    this.#all = [...this.#all, ...added];
    this.#tell();
    this.#begin();
  }

  pause = (id: number): void => this.#change(id, { state: 'paused' });

  /** Goes on with one that was paused or has failed. */
  resume = (id: number): void => {
    this.#change(id, { state: 'waiting', trouble: null });
    this.#begin();
  };

  clear = (): void => {
    this.#all = this.#all.filter(({ state }) => state !== 'done');
    this.#tell();
  };

  #find = (id: number): Upload | undefined => this.#all.find((one) => one.id === id);

  #change(id: number, changes: Partial<Upload>): void {
    this.#all = this.#all.map((one) => (one.id === id ? { ...one, ...changes } : one));
    this.#tell();
  }

  #tell(): void {
    for (const told of this.#subscribers) told();
  }

  #begin(): void {
    const going = this.#all.filter(({ state }) => state === 'going').length;
    for (const { id } of this.#all.filter(({ state }) => state === 'waiting').slice(0, AT_ONCE - going)) void this.#send(id);
  }

  async #send(id: number): Promise<void> {
    this.#change(id, { state: 'going' });
    try {
      await this.#parts(id);
    } catch (error) {
      if (this.#find(id)?.state === 'going') this.#change(id, { state: 'failed', trouble: describeError(error) });
    }
    if (this.#find(id)?.state === 'done') void refreshCalls(operations.managedFiles);
    this.#begin();
  }

  async #parts(id: number): Promise<void> {
    const held = this.#files.get(id);
    const upload = this.#find(id);
    if (!held || !upload) return;
    const { file, params } = held;
    let offset = await this.#offset(held);
    if (offset === null) {
      const encoded = btoa(String.fromCharCode(...new TextEncoder().encode(upload.path)));
      const begun = await api.open(own.begin, {
        params,
        headers: { ...TUS, 'Upload-Length': String(file.size), 'Upload-Metadata': `path ${encoded}` },
      });
      held.upload = begun.headers.get('location')?.split('/').at(-1) ?? null;
      offset = 0;
    }
    while (offset < file.size) {
      if (this.#find(id)?.state !== 'going') return;
      const end = Math.min(offset + PART, file.size);
      await api.open(own.append, {
        params: { ...params, upload: held.upload as string },
        headers: { ...TUS, 'Upload-Offset': String(offset), 'content-type': 'application/offset+octet-stream' },
        raw: file.slice(offset, end),
      });
      offset = end;
      this.#change(id, { sent: offset });
    }
    this.#change(id, { state: 'done', sent: file.size });
  }

  /** How much of an upload has arrived; null where it has to begin. */
  async #offset({ upload, params }: { upload: string | null; params: Params }): Promise<number | null> {
    if (!upload) return null;
    try {
      const state = await api.open(own.offset, { params: { ...params, upload }, headers: TUS });
      return Number(state.headers.get('upload-offset'));
    } catch (error) {
      if (error instanceof Problem) return null;
      throw error;
    }
  }
}

/** Files that were dropped, with those of whole folders. */
export async function droppedFiles(items: DataTransferItemList): Promise<Chosen[]> {
  const entries = [...items].map((item) => item.webkitGetAsEntry()).filter((entry) => entry !== null);
  return (await Promise.all(entries.map(filesOf))).flat();
}

async function filesOf(entry: FileSystemEntry): Promise<Chosen[]> {
  const path = entry.fullPath.replace(/^\//, '');
  if (entry.isFile) {
    const file = await new Promise<File>((resolve, reject) => (entry as FileSystemFileEntry).file(resolve, reject));
    return [{ file, path }];
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const all: FileSystemEntry[] = [];
  // A reader gives a hundred entries at a time, and none when it is at its end.
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((resolve, reject) => reader.readEntries(resolve, reject));
    if (some.length === 0) break;
    all.push(...some);
  }
  return (await Promise.all(all.map(filesOf))).flat();
}
