/**
 * Systems behind the service: the weather office, which knows its callers by a header, and the payment office, which wants OAuth 2.0 tokens.
 * Both stand on one port; faults on request.
 */
import { createHash, randomBytes } from 'node:crypto';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { createServer as createTlsServer } from 'node:https';
import type { AddressInfo } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';
import { gzipSync } from 'node:zlib';

/** What an office does in place of a good answer, to `count` calls; to all, if left out. */
export type OfficeFault = { count?: number } & (
  | { mode: 'none' }
  | { mode: 'status'; status: number; retryAfterS?: number }
  | { mode: 'hang' }
  /** A byte now and then. */
  | { mode: 'trickle' }
  /** A body that is shorter or longer than it says. */
  | { mode: 'short' }
  | { mode: 'long' }
  /** A small answer that unpacks to 200 MB. */
  | { mode: 'bomb' }
  | { mode: 'drop' }
  | { mode: 'move'; to: string }
);
export const WEATHER_KEY = 'larch-and-lichen';
export const PAYMENT_CLIENT = { id: 'quillfell', secret: 'copper-kettle' };
const SKIES = ['clear', 'clouds', 'drizzle', 'snow', 'storm'];
const PAGE = 2;
const LIFE_S = 300;

export type Office = {
  address: string;
  fault: OfficeFault;
  calls: { method: string; path: string; headers: IncomingMessage['headers']; body: string }[];
};

export class Offices implements Office {
  fault: OfficeFault = { mode: 'none' };
  readonly calls: Office['calls'] = [];
  readonly #server: Server;
  readonly #scheme: string;
  /** Access tokens, and whose they are. */
  readonly #tokens = new Map<string, string>();
  address = '';

  constructor(tls?: { key: string; cert: string }) {
    const answer = (request: IncomingMessage, response: ServerResponse) => void this.#answer(request, response);
    this.#server = tls ? createTlsServer(tls, answer) : createServer(answer);
    this.#scheme = tls ? 'https' : 'http';
  }

  async start(port = 0): Promise<void> {
    await new Promise<void>((resolve) => {
      this.#server.listen(port, '127.0.0.1', resolve);
    });
    this.address = `${this.#scheme}://127.0.0.1:${(this.#server.address() as AddressInfo).port}`;
  }

  async stop(): Promise<void> {
    this.#server.closeAllConnections();
    await new Promise((resolve) => {
      this.#server.close(resolve);
    });
  }

  /** Takes all tokens back. */
  expireTokens(): void {
    this.#tokens.clear();
  }

  async #answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const chunks: Buffer[] = [];
    for await (const chunk of request) chunks.push(chunk as Buffer);
    const body = Buffer.concat(chunks).toString();
    const url = new URL(request.url ?? '/', 'http://office');
    this.calls.push({ method: request.method ?? '', path: url.pathname + url.search, headers: request.headers, body });
    if (this.calls.length > 500) this.calls.shift();
    const isToken = url.pathname === '/payments/token';
    if (!isToken && (await this.#faulty(response))) return;
    if (isToken) return this.#giveToken(request, response, new URLSearchParams(body));
    if (url.pathname.startsWith('/weather')) return this.#weather(request, response, url);
    if (url.pathname.startsWith('/payments')) return this.#payments(request, response, url, body);
    send(response, 404, { error: 'no such place' });
  }

  /** @returns whether a fault took the answer's place */
  async #faulty(response: ServerResponse): Promise<boolean> {
    const { fault } = this;
    if (fault.count !== undefined && fault.count-- <= 0) this.fault = { mode: 'none' };
    switch (this.fault.mode) {
      case 'none':
        return false;
      case 'status':
        send(
          response,
          this.fault.status,
          { error: 'not now' },
          this.fault.retryAfterS ? { 'retry-after': String(this.fault.retryAfterS) } : {},
        );
        return true;
      case 'hang':
        return true;
      case 'trickle':
        response.writeHead(200, { 'content-type': 'application/json' });
        for (let i = 0; i < 200 && !response.destroyed; i++) {
          response.write(' ');
          await sleep(100);
        }
        return true;
      case 'short':
        response.writeHead(200, { 'content-type': 'application/json', 'content-length': 500 });
        response.write('{"sky":');
        setTimeout(() => response.destroy(), 20);
        return true;
      case 'long':
        response.socket?.end(
          'HTTP/1.1 200 OK\r\ncontent-length: 5\r\ncontent-type: application/json\r\n\r\n{"sky": "clear", "more": true}',
        );
        return true;
      case 'bomb':
        response.writeHead(200, { 'content-type': 'application/json', 'content-encoding': 'gzip' }).end(bomb());
        return true;
      case 'drop':
        response.destroy();
        return true;
      case 'move':
        response.writeHead(302, { location: this.fault.to }).end();
        return true;
    }
  }

  /** RFC 6749 section 4.4.2, and RFC 8693 section 2. */
  #giveToken({ headers }: IncomingMessage, response: ServerResponse, form: URLSearchParams): void {
    const expected = `Basic ${Buffer.from(`${PAYMENT_CLIENT.id}:${PAYMENT_CLIENT.secret}`).toString('base64')}`;
    if (headers.authorization !== expected) return send(response, 401, { error: 'invalid_client' });
    const grant = form.get('grant_type') ?? '';
    const isExchange = grant === 'urn:ietf:params:oauth:grant-type:token-exchange';
    if (!isExchange && grant !== 'client_credentials') return send(response, 400, { error: 'unsupported_grant_type' });
    if (isExchange && !form.get('subject_token')) return send(response, 400, { error: 'invalid_request' });
    const token = randomBytes(16).toString('hex');
    this.#tokens.set(token, isExchange ? `user ${form.get('subject_token')}` : PAYMENT_CLIENT.id);
    send(response, 200, {
      access_token: token,
      token_type: 'Bearer',
      expires_in: LIFE_S,
      ...(isExchange ? { issued_token_type: 'urn:ietf:params:oauth:token-type:access_token' } : {}),
    });
  }

  #weather({ headers }: IncomingMessage, response: ServerResponse, { pathname }: URL): void {
    if (pathname === '/weather/openapi.json') return send(response, 200, WEATHER_DOCUMENT);
    if (headers['x-weather-key'] !== WEATHER_KEY) return send(response, 401, { error: 'the key is missing or wrong' });
    const hut = /^\/weather\/forecasts\/([\w.-]+)$/.exec(pathname)?.[1];
    if (pathname === '/weather' || pathname === '/weather/') return send(response, 200, { office: 'weather' });
    if (!hut) return send(response, 404, { error: 'no forecast for this place' });
    const seed = createHash('sha256').update(hut).digest();
    const forecast = {
      hut,
      sky: SKIES[(seed[0] as number) % SKIES.length],
      windMs: (seed[1] as number) % 25,
      celsius: ((seed[2] as number) % 30) - 8,
    };
    const etag = `"${seed.toString('hex', 0, 6)}"`;
    const caching = { 'cache-control': 'max-age=60', etag };
    if (headers['if-none-match'] === etag) return void response.writeHead(304, caching).end();
    send(response, 200, forecast, caching);
  }

  #payments({ headers, method }: IncomingMessage, response: ServerResponse, { pathname, searchParams }: URL, body: string): void {
    const owner = this.#tokens.get(headers.authorization?.replace(/^Bearer /, '') ?? '');
    if (owner === undefined) return send(response, 401, { error: 'invalid_token' }, { 'www-authenticate': 'Bearer error="invalid_token"' });
    if (pathname === '/payments/prices') {
      const from = Number(searchParams.get('cursor') ?? 0);
      const next = from + PAGE < PRICES.length ? String(from + PAGE) : null;
      return send(response, 200, { items: PRICES.slice(from, from + PAGE), next, owner }, { 'cache-control': 'no-store' });
    }
    if (pathname === '/payments/charges' && method === 'POST')
      return send(response, 201, { id: randomBytes(4).toString('hex'), owner, ...(JSON.parse(body || '{}') as object) });
    send(response, 404, { error: 'no such place' });
  }
}

let packedBomb: Buffer | null = null;
/** Packing it takes a second. */
const bomb = (): Buffer => (packedBomb ??= gzipSync(Buffer.alloc(200_000_000)));

const PRICES = [
  { kind: 'bunk', crowns: 320 },
  { kind: 'double', crowns: 760 },
  { kind: 'floor', crowns: 120 },
];

function send(response: ServerResponse, status: number, body: object, headers: Record<string, string> = {}): void {
  response.writeHead(status, { 'content-type': 'application/json', ...headers }).end(JSON.stringify(body));
}

/** The weather office's own description. */
export const WEATHER_DOCUMENT = {
  openapi: '3.1.0',
  info: { title: 'Weather office', version: '1' },
  paths: {
    '/forecasts/{hut}': {
      get: {
        operationId: 'forecast',
        summary: 'The forecast for a hut',
        responses: { 200: { description: 'The forecast' } },
      },
    },
  },
};
