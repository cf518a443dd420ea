/** A few HTTP/2 connections to one origin (RFC 9113), opened on demand and reopened when they end. */
import { type ClientHttp2Session, connect, constants, type IncomingHttpHeaders } from 'node:http2';
import type { SecureContextOptions } from 'node:tls';

export type HttpAnswer = { status: number; headers: Record<string, string | undefined>; text: string };
const ANSWER_WITHIN_MS = 15_000;
const CONNECT_WITHIN_MS = 10_000;
/** Limit for reading a response. */
const MOST_BYTES = 4000;

const textOf = (chunks: Buffer[]): string => (chunks.length === 1 ? (chunks[0] as Buffer) : Buffer.concat(chunks)).toString();

type Link = { session: ClientHttp2Session; ready: Promise<void>; isReady: boolean };
export type Http2Options = { connections: number; tls: SecureContextOptions };

export class Http2Pool {
  readonly #links: (Link | null)[];
  #next = 0;

  constructor(
    readonly origin: string,
    private readonly options: Http2Options,
  ) {
    this.#links = Array.from({ length: options.connections }, () => null);
  }

  #open(slot: number): Link {
    const session = connect(this.origin, { ...this.options.tls, settings: { enablePush: false } });
    const link: Link = { session, ready: Promise.resolve(), isReady: false };
    link.ready = new Promise<void>((resolve, reject) => {
      const timer = setTimeout(
        () => session.destroy(Object.assign(new Error('The connection timed out'), { code: 'ETIMEDOUT' })),
        CONNECT_WITHIN_MS,
      );
      // The settings of the other side say how many streams may be open at a time (section 6.5.2).
      session.once('remoteSettings', () => {
        clearTimeout(timer);
        link.isReady = true;
        resolve();
      });
      session.once('close', () => {
        clearTimeout(timer);
        reject(Object.assign(new Error('The connection was closed'), { code: 'ECONNRESET' }));
      });
      session.once('error', reject);
    });
    link.ready.catch(() => undefined);
    const forget = () => {
      if (this.#links[slot] === link) this.#links[slot] = null;
    };
    session.on('error', forget);
    session.on('close', forget);
    // Section 6.8: after GOAWAY no new stream is opened; those in flight may finish.
    session.on('goaway', () => {
      forget();
      session.close();
    });
    session.unref();
    this.#links[slot] = link;
    return link;
  }

  #link(): Link {
    const slot = this.#next++ % this.#links.length;
    const link = this.#links[slot];
    return link && !link.session.closed && !link.session.destroyed ? link : this.#open(slot);
  }

  /** Sends one request. @throws Error with a `code` when the connection fails or no answer comes in time */
  request(method: string, path: string, headers: Record<string, string>, body: string): Promise<HttpAnswer> {
    const link = this.#link();
    const send = () => exchange(link.session, method, path, headers, body);
    return link.isReady ? send() : link.ready.then(send);
  }

  /** Opens a connection if there is none, and checks it with PING (section 6.7). */
  async ping(): Promise<void> {
    const link = this.#link();
    await link.ready;
    await new Promise<void>((resolve, reject) => link.session.ping((error) => (error ? reject(error) : resolve())));
  }

  close(): void {
    for (const link of this.#links) link?.session.close();
  }
}

/** One stream: a request and its response. */
function exchange(
  session: ClientHttp2Session,
  method: string,
  path: string,
  headers: Record<string, string>,
  body: string,
): Promise<HttpAnswer> {
  return new Promise((resolve, reject) => {
    const stream = session.request({
      [constants.HTTP2_HEADER_METHOD]: method,
      [constants.HTTP2_HEADER_PATH]: path,
      ...headers,
      ...(body ? { 'content-length': Buffer.byteLength(body) } : {}),
    });
    let answered: IncomingHttpHeaders | null = null;
    const chunks: Buffer[] = [];
    let length = 0;
    stream.setTimeout(ANSWER_WITHIN_MS, () => stream.destroy(Object.assign(new Error('The response timed out'), { code: 'ETIMEDOUT' })));
    stream.on('response', (received) => {
      answered = received;
    });
    stream.on('data', (chunk: Buffer) => {
      if (length < MOST_BYTES) chunks.push(chunk);
      length += chunk.length;
    });
    stream.once('error', reject);
    stream.once('close', () => {
      if (!answered) return reject(Object.assign(new Error('The connection was closed'), { code: 'ECONNRESET' }));
      resolve({
        status: Number(answered[constants.HTTP2_HEADER_STATUS]),
        headers: answered as HttpAnswer['headers'],
        text: textOf(chunks),
      });
    });
    stream.end(body);
  });
}
