/**
 * Tarn, a push network that wants a bearer token: one signed by the developer's own key (JWT, RFC 7519), or one fetched
 * with a service account (RFC 7523). Its protocol is described in docs/gateways.md.
 */
import { createPublicKey, generateKeyPairSync, type KeyObject, randomBytes } from 'node:crypto';
import { createSecureServer, type Http2ServerRequest, type Http2ServerResponse, type ServerHttp2Session } from 'node:http2';
import type { AddressInfo } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';
import { errors, jwtVerify } from 'jose';
import { type Authority, serverCertificate } from './authority.js';
import { Faults } from './faults.js';

/** What a phone gets from Tarn. */
export type TarnLetter = {
  heading?: string;
  words?: string;
  tally?: number;
  tone?: string;
  image?: string;
  leadsTo?: string;
  sort?: string;
  buttons?: { id: string; title: string }[];
  quiet?: boolean;
  extra?: string;
};
type Phone = {
  project: string;
  gone: boolean;
  listener: ((letter: TarnLetter, id: string) => void) | null;
  waiting: { letter: TarnLetter; id: string }[];
};
type Account = { project: string; key: KeyObject };
const MOST_BYTES = 8192;
const TOKEN_LIFE_S = 1800;

export class TarnNetwork {
  readonly faults = new Faults();
  readonly #phones = new Map<string, Phone>();
  readonly #accounts = new Map<string, Account>();
  readonly #signers = new Map<string, { issuer: string; project: string; key: KeyObject }>();
  readonly #issued = new Map<string, { project: string; until: number }>();
  readonly #sessions = new Set<ServerHttp2Session>();
  readonly #taken = new Set<string>();
  #notBefore = 0;
  accepted = 0;
  address = '';
  readonly #server;

  constructor(readonly authority: Authority) {
    this.#server = createSecureServer({ ...serverCertificate(authority), allowHTTP1: true, settings: { maxConcurrentStreams: 200 } });
    this.#server.on('session', (session) => {
      this.#sessions.add(session);
      session.on('close', () => this.#sessions.delete(session));
    });
    this.#server.on('request', (request, response) => {
      this.#answer(request, response).catch(() => response.destroy?.());
    });
  }

  async start(port = 0): Promise<void> {
    await new Promise<void>((resolve, reject) => this.#server.once('error', reject).listen(port, '127.0.0.1', resolve));
    this.address = `https://localhost:${(this.#server.address() as AddressInfo).port}`;
  }

  /** Opens a service account. @returns its key file */
  openAccount(project: string): string {
    const { privateKey, publicKey } = generateKeyPairSync('rsa', { modulusLength: 2048 });
    const account = `sender-${randomBytes(3).toString('hex')}@${project}.tarn.example`;
    this.#accounts.set(account, { project, key: publicKey });
    const file = {
      fileType: 'tarn-service-account',
      project,
      account,
      keyId: randomBytes(4).toString('hex'),
      privateKey: privateKey.export({ type: 'pkcs8', format: 'pem' }),
      tokenAddress: `${this.address}/token`,
    };
    return `${JSON.stringify(file, null, 2)}\n`;
  }

  /** Registers a developer's signing key. @returns the key file in PEM, its id and who signs */
  openSigner(project: string): { keyFile: string; keyId: string; issuer: string } {
    const { privateKey, publicKey } = generateKeyPairSync('ec', { namedCurve: 'prime256v1' });
    const keyId = randomBytes(5).toString('hex').toUpperCase();
    const issuer = `team-${randomBytes(3).toString('hex')}`;
    this.#signers.set(keyId, { issuer, project, key: publicKey });
    return { keyFile: privateKey.export({ type: 'pkcs8', format: 'pem' }) as string, keyId, issuer };
  }

  /** What the network knows of its customers, to be kept over a restart. */
  store(): {
    accounts: [string, string, string][];
    signers?: [string, string, string, string][];
    phones: [string, string, boolean][];
  } {
    const pem = (key: KeyObject) => key.export({ type: 'spki', format: 'pem' }) as string;
    return {
      accounts: [...this.#accounts].map(([name, { project, key }]) => [name, project, pem(key)]),
      signers: [...this.#signers].map(([keyId, { issuer, project, key }]) => [keyId, issuer, project, pem(key)]),
      phones: [...this.#phones].map(([token, { project, gone }]) => [token, project, gone]),
    };
  }

  restore(stored: ReturnType<TarnNetwork['store']>): void {
    for (const [name, project, key] of stored.accounts) this.#accounts.set(name, { project, key: createPublicKey(key) });
    for (const [keyId, issuer, project, key] of stored.signers ?? [])
      this.#signers.set(keyId, { issuer, project, key: createPublicKey(key) });
    for (const [token, project, gone] of stored.phones) this.#phones.set(token, { project, gone, listener: null, waiting: [] });
  }

  register(project: string, token = randomBytes(48).toString('base64url')): string {
    this.#phones.set(token, { project, gone: false, listener: null, waiting: [] });
    return token;
  }

  listen(token: string, listener: (letter: TarnLetter, id: string) => void): void {
    const phone = this.#phones.get(token);
    if (!phone) return;
    phone.listener = listener;
    for (const { letter, id } of phone.waiting.splice(0)) listener(letter, id);
  }

  uninstall(token: string): void {
    const phone = this.#phones.get(token);
    if (phone) phone.gone = true;
  }

  /** Every token issued or signed until now becomes invalid. */
  expireTokens(): void {
    this.#issued.clear();
    this.#notBefore = Math.floor(Date.now() / 1000);
  }

  async #answer(request: Http2ServerRequest, response: Http2ServerResponse): Promise<void> {
    const chunks: Buffer[] = [];
    for await (const chunk of request) chunks.push(chunk as Buffer);
    const body = Buffer.concat(chunks).toString();
    const say = (status: number, document: object, headers: Record<string, string> = {}) => {
      response.writeHead(status, { 'content-type': 'application/json', ...headers });
      response.end(JSON.stringify(document));
    };
    if (request.url === '/token' && request.method === 'POST') return this.#giveToken(body, say);
    const fault = this.faults.take();
    if (fault.mode === 'throttle') return say(429, { trouble: { word: 'slower' } }, { 'retry-after': String(fault.retryAfterS) });
    if (fault.mode === 'refuse') return say(fault.status, { trouble: { word: 'refused-on-request' } });
    if (fault.mode === 'drop') return void request.stream?.session?.destroy();
    if (fault.mode === 'slow') await sleep(fault.delayMs);
    if (fault.mode === 'expire-tokens') this.expireTokens();
    if (request.url !== '/letters' || request.method !== 'POST') return say(404, { trouble: { word: 'nowhere' } });
    const project = await this.#projectOf(request.headers.authorization);
    if (!project) return say(401, { trouble: { word: 'token', text: 'The bearer token is missing, expired or not of this network.' } });
    this.#deliver(project, body, say);
  }

  /** RFC 7523 sections 2.1 and 3; errors as RFC 6749 section 5.2. */
  async #giveToken(body: string, say: (status: number, document: object) => void): Promise<void> {
    const form = new URLSearchParams(body);
    if (form.get('grant_type') !== 'urn:ietf:params:oauth:grant-type:jwt-bearer') return say(400, { error: 'unsupported_grant_type' });
    try {
      const [, claims = ''] = (form.get('assertion') ?? '').split('.');
      const { iss } = JSON.parse(Buffer.from(claims, 'base64url').toString()) as { iss: string };
      const account = this.#accounts.get(iss);
      if (!account) return say(400, { error: 'invalid_grant', error_description: `There is no account ${iss}.` });
      await jwtVerify(form.get('assertion') ?? '', account.key, { audience: `${this.address}/token`, issuer: iss });
      const token = randomBytes(24).toString('base64url');
      this.#issued.set(token, { project: account.project, until: Date.now() + TOKEN_LIFE_S * 1000 });
      say(200, { access_token: token, token_type: 'Bearer', expires_in: TOKEN_LIFE_S });
    } catch {
      say(400, { error: 'invalid_grant', error_description: 'The assertion does not verify.' });
    }
  }

  async #projectOf(header: string | undefined): Promise<string | null> {
    const token = /^Bearer (\S+)$/.exec(header ?? '')?.[1] ?? '';
    const issued = this.#issued.get(token);
    if (issued) return issued.until > Date.now() ? issued.project : null;
    return this.#signedBy(token);
  }

  readonly #verified = new Map<string, { project: string; until: number }>();
  async #signedBy(token: string): Promise<string | null> {
    const known = this.#verified.get(token);
    if (known && known.until > Date.now() && this.#notBefore === 0) return known.project;
    try {
      const { kid } = JSON.parse(Buffer.from(token.split('.')[0] ?? '', 'base64url').toString()) as { kid: string };
      const signer = this.#signers.get(kid);
      if (!signer) return null;
      const { payload } = await jwtVerify(token, signer.key, { algorithms: ['ES256'], issuer: signer.issuer, maxTokenAge: '1h' });
      if ((payload.iat ?? 0) < this.#notBefore) return null;
      this.#verified.set(token, { project: signer.project, until: Date.now() + 60_000 });
      return signer.project;
    } catch (error) {
      if (error instanceof errors.JOSEError || error instanceof SyntaxError) return null;
      throw error;
    }
  }

  #deliver(project: string, body: string, say: (status: number, document: object) => void): void {
    if (Buffer.byteLength(body) > MOST_BYTES) return say(413, { trouble: { word: 'too-long' } });
    let order: { to?: string; mark?: string; letter?: TarnLetter };
    try {
      order = JSON.parse(body);
    } catch {
      return say(400, { trouble: { word: 'not-json' } });
    }
    const phone = this.#phones.get(order.to ?? '');
    if (!phone || phone.gone) return say(404, { trouble: { word: 'no-such-phone' } });
    if (phone.project !== project) return say(403, { trouble: { word: 'other-project', text: `The phone is of ${phone.project}.` } });
    const id = order.mark ?? randomBytes(8).toString('hex');
    say(200, { letter: id });
    if (this.#taken.has(id)) return;
    this.#taken.add(id);
    this.accepted++;
    if (phone.listener) phone.listener(order.letter ?? {}, id);
    else phone.waiting = [...phone.waiting, { letter: order.letter ?? {}, id }].slice(-50);
  }

  async stop(): Promise<void> {
    for (const session of this.#sessions) session.destroy();
    this.#server.close();
  }
}
