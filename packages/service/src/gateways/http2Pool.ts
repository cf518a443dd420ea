/** A few HTTP/2 connections to one origin (RFC 9113), opened when they are needed and opened anew when they end. */
import { type ClientHttp2Session, connect, constants, type IncomingHttpHeaders } from 'node:http2';
import type { SecureContextOptions } from 'node:tls';

export type HttpAnswer = { status: number; headers: Record<string, string | undefined>; text: string };
const ANSWER_WITHIN_MS = 15_000;
const CONNECT_WITHIN_MS = 10_000;
const MOST_TEXT = 4000;

type Link = { session: ClientHttp2Session; ready: Promise<void>; open: number };
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
    const link: Link = { session, open: 0, ready: Promise.resolve() };
    link.ready = new Promise<void>((resolve, reject) => {
      const timer = setTimeout(
        () => session.destroy(Object.assign(new Error('No connection in time'), { code: 'ETIMEDOUT' })),
        CONNECT_WITHIN_MS,
      );
      // The settings of the other side say how many streams may be open at a time (section 6.5.2).
      session.once('remoteSettings', () => {
        clearTimeout(timer);
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
    // Section 6.8: after GOAWAY no new stream is opened; those under way may end.
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
  async request(method: string, path: string, headers: Record<string, string>, body: string): Promise<HttpAnswer> {
    const link = this.#link();
    await link.ready;
    return new Promise((resolve, reject) => {
      const stream = link.session.request({
        [constants.HTTP2_HEADER_METHOD]: method,
        [constants.HTTP2_HEADER_PATH]: path,
        ...headers,
        ...(body ? { 'content-length': Buffer.byteLength(body) } : {}),
      });
      let answered: IncomingHttpHeaders | null = null;
      let text = '';
      stream.setTimeout(ANSWER_WITHIN_MS, () => stream.destroy(Object.assign(new Error('No answer in time'), { code: 'ETIMEDOUT' })));
      stream.setEncoding('utf8');
      stream.on('response', (received) => {
        answered = received;
      });
      stream.on('data', (chunk: string) => {
        if (text.length < MOST_TEXT) text += chunk;
      });
      stream.once('error', reject);
      stream.once('close', () => {
        if (!answered) return reject(Object.assign(new Error('The connection was closed'), { code: 'ECONNRESET' }));
        resolve({ status: Number(answered[constants.HTTP2_HEADER_STATUS]), headers: answered as HttpAnswer['headers'], text });
      });
      stream.end(body);
    });
  }

  /** Opens a connection, if none is, and asks it for a sign of life (PING, section 6.7). */
  async ping(): Promise<void> {
    const link = this.#link();
    await link.ready;
    await new Promise<void>((resolve, reject) => link.session.ping((error) => (error ? reject(error) : resolve())));
  }

  close(): void {
    for (const link of this.#links) link?.session.close();
  }
}
