/** Answering with the content of a file: ranges and conditions by `send` (RFC 9110 sections 13 and 14), and headers that keep it from running. */
import { Problem } from '@orchard/contract';
import { create as contentDisposition } from 'content-disposition';
import send from 'send';
import type { Answer, Call, Environment } from '../../platform/call.js';
import type { Contents } from './contents.js';
import { mayBeShown } from './mediaType.js';

/** What is answered: a content, and how it is presented. */
export type Content = {
  digest: string;
  size: number;
  type: string;
  /** What it is called when it is saved. */
  name: string;
  at: Date;
  /** Whether the address always has the same content. */
  immutable: boolean;
  /** Who may keep it. */
  cache: 'private' | 'public' | 'none';
  download: boolean;
  /** Request headers that the choice of the content depends on. */
  vary?: string;
};

const FOREVER_S = 31_536_000;
/** Whoever may read a private file may do so until told otherwise; a public one is asked for again after a minute. */
const CACHING = {
  none: 'no-store',
  private: 'private, no-cache',
  public: 'public, max-age=60, stale-while-revalidate=600',
} as const;
/** Smaller ones are answered from memory: opening a stream would cost more than reading. */
const SMALL = 64 * 1024;
/** Whatever a file holds, a browser that opens it by its address runs nothing of it on our origin. */
const NO_CODE = "sandbox; default-src 'none'; img-src 'self' data:; media-src 'self'; style-src 'unsafe-inline'";

function headersOf(content: Content): Record<string, string> {
  const { digest, type, name, at, immutable, cache, download, vary } = content;
  const shown = mayBeShown(type) && !download;
  return {
    ETag: `"${digest}"`,
    'Last-Modified': at.toUTCString(),
    // RFC 9530 section 3: of the whole representation, also where a part of it is sent.
    'Repr-Digest': `sha-256=:${Buffer.from(digest, 'hex').toString('base64')}:`,
    'Content-Type': type.startsWith('text/') ? `${type}; charset=utf-8` : type,
    'Content-Disposition': contentDisposition(name, { type: shown ? 'inline' : 'attachment' }),
    'Content-Security-Policy': NO_CODE,
    'X-Content-Type-Options': 'nosniff',
    // RFC 8246: a content of one edition never changes.
    'Cache-Control': immutable && cache !== 'none' ? `${cache}, max-age=${FOREVER_S}, immutable` : CACHING[cache],
    'Accept-Ranges': 'bytes',
    'Cross-Origin-Resource-Policy': cache === 'public' ? 'cross-origin' : 'same-site',
    ...(vary ? { Vary: vary } : {}),
  };
}

/** The headers of a file alone (RFC 9110 section 9.3.2). */
export function answerHead(call: Call, content: Content): 'streaming' {
  const { response } = call;
  for (const [name, value] of Object.entries(headersOf(content))) response.setHeader(name, value);
  response.setHeader('Content-Length', content.size);
  response.statusCode = 200;
  response.end();
  return 'streaming';
}

/** @throws {Problem} content-damaged */
export async function answerContent(
  call: Call,
  contents: Contents,
  environment: Environment,
  content: Content,
): Promise<Answer<never> | 'streaming'> {
  const { request, response } = call;
  const headers = headersOf(content);
  if (isKnown(request.headers['if-none-match'], headers.ETag as string)) return { body: undefined as never, status: 304, headers };
  if (request.headers.range === undefined && content.size <= SMALL) {
    const body = await contents.whole(environment, content);
    if (body === null) throw await damaged(contents, environment, content.digest);
    return { body: body as never, headers };
  }
  for (const [name, value] of Object.entries(headers)) response.setHeader(name, value);
  await streamed(call, contents, environment, content);
  return 'streaming';
}

/** RFC 9110 section 13.1.2: a list of tags, compared weakly, or `*`. */
const isKnown = (header: string | undefined, tag: string): boolean =>
  header !== undefined && (header.trim() === '*' || header.split(',').some((one) => one.trim().replace(/^W\//, '') === tag));

async function damaged(contents: Contents, environment: Environment, digest: string): Promise<Problem> {
  await contents.noteVerified(environment, digest, false);
  return new Problem('content-damaged');
}

function streamed(call: Call, contents: Contents, environment: Environment, { digest }: Content): Promise<void> {
  const { request, response } = call;
  const place = contents.bytes.place(environment.id, digest);
  return new Promise((resolve, reject) => {
    const stream = send(request, encodeURI(place), {
      etag: false,
      lastModified: false,
      cacheControl: false,
      dotfiles: 'allow',
      index: false,
    });
    stream.on('error', (error: Error & { status?: number; headers?: Record<string, string> }) => {
      if (error.status === 404) return void damaged(contents, environment, digest).then(reject, reject);
      if (error.status === 416) {
        response.setHeader('Content-Range', error.headers?.['Content-Range'] ?? 'bytes */*');
        return reject(new Problem('range-not-satisfiable'));
      }
      if (error.status === 412)
        return reject(new Problem('version-conflict', 'The content is not the one that If-Match or If-Unmodified-Since names.'));
      reject(error);
    });
    // The reader may go away at any moment; there is nothing more to do for it then.
    response.once('close', () => resolve());
    stream.pipe(response);
  });
}
