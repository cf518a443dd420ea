/** Cairn, a push network that wants a client certificate: HTTP/2 over TLS. Its protocol is described in docs/gateways.md. */
import { randomBytes } from 'node:crypto';
import { createSecureServer, type Http2ServerRequest, type Http2ServerResponse, type ServerHttp2Session } from 'node:http2';
import type { AddressInfo } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';
import type { TLSSocket } from 'node:tls';
import { type Authority, serverCertificate } from './authority.js';
import { Faults } from './faults.js';

/** A message that a phone gets from Cairn. */
export type CairnMessage = {
  show?: { head?: string; text?: string; count?: number; sound?: string; picture?: string };
  wake?: boolean;
  link?: string;
  kind?: string;
  choices?: { id: string; title: string }[];
  more?: Record<string, unknown>;
};
type Phone = {
  packageIdentifier: string;
  stage: 'trial' | 'live';
  gone: boolean;
  listener: ((message: CairnMessage, id: string) => void) | null;
  waiting: { message: CairnMessage; id: string; name: string | null; until: number }[];
};
const MOST_BYTES = 4096;

export class CairnNetwork {
  readonly faults = new Faults();
  readonly #phones = new Map<string, Phone>();
  readonly #sessions = new Set<ServerHttp2Session>();
  /** Ids of accepted messages: a repeated one is not shown again. */
  readonly #taken = new Set<string>();
  accepted = 0;
  address = '';
  readonly #server;

  constructor(readonly authority: Authority) {
    this.#server = createSecureServer({
      ...serverCertificate(authority),
      ca: authority.certificate,
      requestCert: true,
      rejectUnauthorized: false,
      settings: { maxConcurrentStreams: 200 },
    });
    this.#server.on('session', (session) => {
      this.#sessions.add(session);
      session.on('close', () => this.#sessions.delete(session));
    });
    this.#server.on('request', (request, response) => {
      this.#answer(request, response).catch(() => response.stream?.destroy());
    });
  }

  async start(port = 0): Promise<void> {
    await new Promise<void>((resolve, reject) => this.#server.once('error', reject).listen(port, '127.0.0.1', resolve));
    this.address = `https://localhost:${(this.#server.address() as AddressInfo).port}`;
  }

  /** The phones it knows, to be kept over a restart. */
  store(): [token: string, packageIdentifier: string, stage: 'trial' | 'live', gone: boolean][] {
    return [...this.#phones].map(([token, { packageIdentifier, stage, gone }]) => [token, packageIdentifier, stage, gone]);
  }

  restore(stored: ReturnType<CairnNetwork['store']>): void {
    for (const [token, packageIdentifier, stage, gone] of stored)
      this.#phones.set(token, { packageIdentifier, stage, gone, listener: null, waiting: [] });
  }

  /**
   * Registers a phone with the app on the network.
   * @returns its token
   */
  register(packageIdentifier: string, stage: 'trial' | 'live', token = randomBytes(32).toString('hex')): string {
    this.#phones.set(token, { packageIdentifier, stage, gone: false, listener: null, waiting: [] });
    return token;
  }

  listen(token: string, listener: (message: CairnMessage, id: string) => void): void {
    const phone = this.#phones.get(token);
    if (!phone) return;
    phone.listener = listener;
    for (const { message, id, until } of phone.waiting.splice(0)) if (until > Date.now()) listener(message, id);
  }

  disconnect(token: string): void {
    const phone = this.#phones.get(token);
    if (phone) phone.listener = null;
  }

  uninstall(token: string): void {
    const phone = this.#phones.get(token);
    if (phone) phone.gone = true;
  }

  async #answer(request: Http2ServerRequest, response: Http2ServerResponse): Promise<void> {
    const chunks: Buffer[] = [];
    for await (const chunk of request) chunks.push(chunk as Buffer);
    const body = Buffer.concat(chunks);
    const say = (status: number, fault?: string, headers: Record<string, string> = {}) => {
      response.writeHead(status, { 'content-type': 'application/json', ...headers });
      response.end(fault ? JSON.stringify({ fault }) : '');
    };
    const fault = this.faults.take();
    if (fault.mode === 'throttle') return say(429, 'too many messages', { 'retry-after': String(fault.retryAfterS) });
    if (fault.mode === 'refuse') return say(fault.status, 'refused on request');
    if (fault.mode === 'drop') return request.stream.session?.destroy();
    if (fault.mode === 'slow') await sleep(fault.delayMs);
    const certificate = (request.stream.session?.socket as TLSSocket | undefined)?.getPeerCertificate();
    const socket = request.stream.session?.socket as TLSSocket | undefined;
    if (!certificate?.subject || !socket?.authorized) return say(403, 'no certificate of this network');
    const subject = certificate.subject as unknown as { UID?: string; OU?: string };
    const token = /^\/deliver\/([0-9a-f]+)$/.exec(request.url)?.[1];
    if (request.method !== 'POST' || !token) return say(404, 'nothing here');
    const phone = this.#phones.get(token);
    if (!phone) return say(400, 'unknown phone');
    if (phone.gone) return say(410, 'phone is gone');
    if (phone.packageIdentifier !== subject.UID) return say(403, `certificate is for ${subject.UID}`);
    if (phone.stage !== subject.OU) return say(400, `phone is ${phone.stage}, certificate is ${subject.OU}`);
    if (body.length > MOST_BYTES) return say(413, 'too large');
    this.#deliver(phone, request, body, say);
  }

  #deliver(
    phone: Phone,
    request: Http2ServerRequest,
    body: Buffer,
    say: (status: number, fault?: string, headers?: Record<string, string>) => void,
  ): void {
    let message: CairnMessage;
    try {
      message = JSON.parse(body.toString());
    } catch {
      return say(400, 'the body is not JSON');
    }
    const header = (name: string) => request.headers[name] as string | undefined;
    const id = header('cairn-message') ?? randomBytes(8).toString('hex');
    say(200, undefined, { 'cairn-message': id });
    if (this.#taken.has(id)) return;
    this.#taken.add(id);
    this.accepted++;
    if (phone.listener) return phone.listener(message, id);
    const name = header('cairn-replaces') ?? null;
    phone.waiting = [
      ...phone.waiting.filter((one) => !name || one.name !== name),
      { message, id, name, until: Number(header('cairn-until') ?? 0) * 1000 },
    ].slice(-50);
  }

  async stop(): Promise<void> {
    for (const session of this.#sessions) session.destroy();
    await new Promise((resolve) => this.#server.close(resolve));
  }
}
