/** The way out to web push networks: RFC 8030 with RFC 8291 encryption and RFC 8292 identification. */
import { lookup } from 'node:dns';
import { Problem } from '@orchard/contract';
import { readRetryAfter } from '@orchard/core';
import { encryptMessage, generateSigningKey, type SigningKey, signingKeyFrom, vapidHeader } from '@orchard/core/push';
import { and, eq } from 'drizzle-orm';
import ipaddr from 'ipaddr.js';
import { Agent, type Dispatcher } from 'undici';
import { seal, unseal } from '../access/secrets.js';
import type { Database } from '../database/connection.js';
import { gateways } from '../database/systemTables.js';

const KIND = 'web-push';
/** RFC 8292 section 2: at most 24 hours; half of that, so that clocks may differ. */
const TOKEN_MS = 12 * 3_600_000;
const ANSWER_WITHIN_MS = 15_000;

export type PushTarget = { endpoint: string; p256dh: string; auth: string };
export type PushOptions = { ttlS: number; urgency: string; replaces: string | null };
/** What became of one message at the push network. */
export type PushOutcome =
  | { kind: 'accepted'; answer: number }
  | { kind: 'gone'; answer: number; reason: string }
  | { kind: 'refused'; answer: number; reason: string }
  | { kind: 'later'; answer: number | null; reason: string; afterMs: number | null };

type Clock = { now: () => number; random: (bytes: number) => Buffer };

export class WebPushGateway {
  readonly #signingKeys = new Map<string, SigningKey>();
  readonly #tokens = new Map<string, { header: string; until: number }>();
  readonly #agent: Agent;
  readonly #privateOrigins: ReadonlySet<string>;

  constructor(
    private readonly database: Database,
    private readonly secretKey: Buffer,
    private readonly clock: Clock,
    privateOrigins: string[],
    private readonly contact: () => string,
  ) {
    this.#privateOrigins = new Set(privateOrigins.map((origin) => new URL(origin).origin));
    const trusted = new Set([...this.#privateOrigins].map((origin) => new URL(origin).hostname));
    this.#agent = new Agent({
      allowH2: true,
      connections: 64,
      pipelining: 1,
      headersTimeout: ANSWER_WITHIN_MS,
      bodyTimeout: ANSWER_WITHIN_MS,
      connect: { timeout: 10_000, lookup: (hostname, options, callback) => lookupPublic(hostname, options, trusted, callback) },
    });
  }

  /** Makes the signing key of a new environment. */
  async prepare(environmentId: string): Promise<void> {
    await this.database.orm.insert(gateways).values({
      environmentId,
      kind: KIND,
      createdAt: new Date(this.clock.now()),
      sealed: seal(this.secretKey, `${environmentId}:${KIND}`, generateSigningKey()),
    });
  }

  async #signingKey(environmentId: string): Promise<SigningKey> {
    const known = this.#signingKeys.get(environmentId);
    if (known) return known;
    const [row] = await this.database.orm
      .select()
      .from(gateways)
      .where(and(eq(gateways.environmentId, environmentId), eq(gateways.kind, KIND)));
    if (!row) throw new Problem('not-found', 'The environment has no web push gateway.');
    const key = signingKeyFrom(unseal(this.secretKey, `${environmentId}:${KIND}`, row.sealed));
    this.#signingKeys.set(environmentId, key);
    return key;
  }

  /** `applicationServerKey` of subscriptions. */
  async publicKey(environmentId: string): Promise<string> {
    return (await this.#signingKey(environmentId)).publicKey;
  }

  /**
   * Refuses a push resource the service must not write to: RFC 8030 section 8 asks for https, and an address inside
   * the installation's own network could be made to receive what its sender cannot reach.
   */
  demandAllowed(endpoint: string): void {
    const { origin, protocol, hostname } = new URL(endpoint);
    if (this.#privateOrigins.has(origin)) return;
    const address = hostname.replace(/^\[|\]$/g, '');
    if (protocol === 'https:' && !(ipaddr.isValid(address) && !isPublic(address)) && hostname !== 'localhost') return;
    const problem = `${origin} is not a push network on the internet.`;
    throw new Problem('invalid-input', `${problem} To use one on a private address, name its origin in ORCHARD_PUSH_ORIGINS.`, {
      fields: [{ path: 'body.subscription.endpoint', problem, expected: 'an https address that is not private' }],
    });
  }

  async #authorization(environmentId: string, origin: string): Promise<string> {
    const name = `${environmentId} ${origin}`;
    const known = this.#tokens.get(name);
    if (known && known.until > this.clock.now()) return known.header;
    const contact = this.contact();
    const claims = {
      aud: origin,
      exp: Math.floor((this.clock.now() + TOKEN_MS) / 1000),
      ...(contact.startsWith('https:') ? { sub: contact } : {}),
    };
    const header = vapidHeader(await this.#signingKey(environmentId), claims);
    this.#tokens.set(name, { header, until: this.clock.now() + TOKEN_MS - 3_600_000 });
    return header;
  }

  /** Encrypts for one device and posts. Never throws: whatever happens is an outcome. */
  async send(environmentId: string, target: PushTarget, message: Uint8Array, options: PushOptions): Promise<PushOutcome> {
    let body: Buffer;
    try {
      const keys = { p256dh: Buffer.from(target.p256dh, 'base64url'), auth: Buffer.from(target.auth, 'base64url') };
      body = encryptMessage(message, keys, { salt: this.clock.random(16) });
    } catch {
      return { kind: 'refused', answer: 0, reason: 'The subscription’s key is not a point on P-256; the app must subscribe again.' };
    }
    try {
      return await this.#post(environmentId, target.endpoint, body, options);
    } catch (error) {
      const { code, message: text } = error as { code?: string; message: string };
      return { kind: 'later', answer: null, reason: `The push network cannot be reached (${code ?? text}).`, afterMs: null };
    }
  }

  async #post(environmentId: string, endpoint: string, body: Buffer, options: PushOptions): Promise<PushOutcome> {
    const url = new URL(endpoint);
    const headers: Record<string, string> = {
      authorization: await this.#authorization(environmentId, url.origin),
      'content-encoding': 'aes128gcm',
      'content-type': 'application/octet-stream',
      ttl: String(options.ttlS),
      urgency: options.urgency,
      ...(options.replaces ? { topic: options.replaces } : {}),
    };
    const reply = await this.#agent.request({ origin: url.origin, path: url.pathname + url.search, method: 'POST', headers, body });
    const text = reply.statusCode < 300 ? (await reply.body.dump(), '') : (await reply.body.text()).slice(0, 200);
    return readAnswer(reply.statusCode, reply.headers, text, this.clock.now());
  }

  close(): Promise<void> {
    return this.#agent.close();
  }
}

/** RFC 8030 sections 5, 7.2, 7.3 and 8.4. */
function readAnswer(status: number, headers: Dispatcher.ResponseData['headers'], text: string, now: number): PushOutcome {
  const said = text ? `: ${text.replace(/\s+/g, ' ')}` : '';
  const afterMs = readRetryAfter(headers['retry-after'] as string | undefined, now);
  if (status >= 200 && status < 300) return { kind: 'accepted', answer: status };
  if (status === 404 || status === 410)
    return { kind: 'gone', answer: status, reason: `The push network answered ${status}: the subscription is over.` };
  if (status === 413) return { kind: 'refused', answer: status, reason: `The push network answered 413: the message is too large${said}` };
  if (status === 429) return { kind: 'later', answer: status, reason: 'The push network answered 429: too many messages.', afterMs };
  if (status >= 500) return { kind: 'later', answer: status, reason: `The push network answered ${status}${said}`, afterMs };
  return { kind: 'refused', answer: status, reason: `The push network answered ${status}${said}` };
}

const isPublic = (address: string) => ipaddr.process(address).range() === 'unicast';

type LookupCallback = (error: NodeJS.ErrnoException | null, address: never, family?: number) => void;

/** Resolves a name, and refuses when it leads to a private address (unless the origin is trusted). */
function lookupPublic(hostname: string, options: object, trusted: ReadonlySet<string>, callback: LookupCallback): void {
  lookup(hostname, options, (error, found: unknown, family) => {
    const addresses = Array.isArray(found) ? (found as { address: string }[]).map(({ address }) => address) : [String(found)];
    if (!error && !trusted.has(hostname) && !addresses.every(isPublic)) {
      return callback(Object.assign(new Error(`${hostname} leads to a private address`), { code: 'PRIVATE_ADDRESS' }), undefined as never);
    }
    callback(error, found as never, family);
  });
}
