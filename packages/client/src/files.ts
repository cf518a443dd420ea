/** Files: small ones by one PUT, large ones by resumable uploads (tus 1.0.0) that tell how far they are. */
import type { CallOptions, Transport } from './transport.js';
import type { BodyTo, InputOf, ReplyTo } from './types.js';
import type { Upload, UploadOptions } from './upload.js';

export type StoredFile = ReplyTo<'files.put'>;
export type FilesHandle = {
  /** Stores a content of up to some megabytes. */
  put: (path: string, content: Blob | ArrayBuffer | Uint8Array | string, options?: CallOptions & { type?: string }) => Promise<StoredFile>;
  /** Stores a content of any size, piece by piece; goes on by itself after a broken connection. */
  upload: (path: string, content: Blob, options?: UploadOptions) => Promise<Upload>;
  /** The content; a picture also in another size, such as `{ width: 320 }`. */
  get: (path: string, query?: InputOf<'files.get'>['query'], options?: CallOptions) => Promise<Blob>;
  describe: (path: string) => Promise<ReplyTo<'files.describe'>>;
  list: (folder?: string, query?: InputOf<'folders.list'>['query']) => Promise<ReplyTo<'folders.list'>>;
  change: (path: string, changes: BodyTo<'files.change'>) => Promise<ReplyTo<'files.change'>>;
  remove: (path: string) => Promise<void>;
  share: (wish: BodyTo<'files.share'>) => Promise<ReplyTo<'files.share'>>;
};

export function filesHandle(transport: Transport, request: (address: string, init: RequestInit) => Promise<Response>): FilesHandle {
  return {
    put: async (path, content, { type, ...options } = {}) => {
      const kind = type ?? (content instanceof Blob && content.type ? content.type : undefined);
      const headers = { ...options.headers, ...(kind ? { 'content-type': kind } : {}) };
      return (
        await transport.open('files.put', { params: { path }, raw: content as never }, { timeLimitMs: 120_000, ...options, headers })
      ).json();
    },
    upload: async (path, content, options) => (await import('./upload.js')).resumable(transport, request, path, content, options),
    get: async (path, query, options) =>
      (await transport.open('files.get', { params: { path }, ...(query ? { query } : {}) }, options)).blob(),
    describe: (path) => transport.call('files.describe', { params: { path } }),
    list: (folder = '', query = {}) =>
      folder ? transport.call('folders.list', { params: { path: folder }, query }) : transport.call('folders.listRoot', { query }),
    change: (path, body) => transport.call('files.change', { params: { path }, body }),
    remove: (path) => transport.call('files.remove', { params: { path } }) as Promise<never>,
    share: (body) => transport.call('files.share', { body }),
  };
}
