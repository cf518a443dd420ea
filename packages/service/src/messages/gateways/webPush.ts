/** The web push gateway: RFC 8030 with RFC 8291 encryption and RFC 8292 identification. */
import { Problem } from '@orchard/contract';
import { composeMessage, MAX_MESSAGE_BYTES, readRetryAfter, uuidv7 } from '@orchard/core';
import { FlightWidth } from '@orchard/core/messages';
import { generateSigningKey, type SigningKey, signingKeyFrom, vapidHeader } from '@orchard/core/push';
import { eq } from 'drizzle-orm';
import ipaddr from 'ipaddr.js';
import { isPublic, lookupPublic } from '../../platform/http/publicHosts.js';
import { Agent, type Dispatcher } from 'undici';
import { seal, unseal } from '../../platform/access/secrets.js';
import { ThreadLost } from '../../platform/threads/threadPool.js';
import type { Environment } from '../../platform/call.js';
import { encryptInThread } from './encryptThreads.js';
import { gatewayTable } from './tables.js';
import { connectionWords, type HttpExchange, type OutgoingMessage, type Outcome, type Sender } from './sender.js';

/** RFC 8292 section 2: at most 24 hours; half of that, so that clocks may differ. */
const TOKEN_MS = 12 * 3_600_000;
const ANSWER_WITHIN_MS = 15_000;
/** Messages in flight, and connections, which carry one each. */
const LEAST_IN_FLIGHT = 3;
const MOST_IN_FLIGHT = 128;

/** How long keys are remembered; another instance may have rotated them. */
const REMEMBER_MS = 5_000;
export const WEB_PUSH = 'web-push';

/** The web push keys of an environment: apps get the latest one; earlier ones reach devices that subscribed with them. */
export type PushKeys = { id: string; secret: string; createdAt: string }[];
type LoadedKeys = { keys: (SigningKey & { id: string })[]; until: number };
type Clock = { now: () => number; random: (bytes: number) => Buffer };

export class WebPushGateway {
  readonly #loaded = new Map<string, LoadedKeys>();
  readonly #tokens = new Map<string, { header: string; until: number }>();
  /** Messages as bytes, by their content object, which deliveries of one notification share. */
  readonly #composed = new WeakMap<object, Uint8Array>();
  readonly #agent: Agent;
  readonly #privateOrigins: ReadonlySet<string>;

  constructor(
    private readonly clock: Clock,
    privateOrigins: string[],
    private readonly contact: () => string,
  ) {
    this.#privateOrigins = new Set(privateOrigins.map((origin) => new URL(origin).origin));
    const trusted = new Set([...this.#privateOrigins].map((origin) => new URL(origin).hostname));
    this.#agent = new Agent({
      allowH2: true,
      connections: MOST_IN_FLIGHT,
      pipelining: 1,
      headersTimeout: ANSWER_WITHIN_MS,
      bodyTimeout: ANSWER_WITHIN_MS,
      connect: { timeout: 10_000, lookup: (hostname, options, callback) => lookupPublic(hostname, options, trusted, callback) },
    });
  }

  /** Makes the signing key of a new environment. */
  async prepare(environment: Environment): Promise<void> {
    const now = new Date(this.clock.now());
    const { db } = environment;
    await db.orm.insert(db.table(gatewayTable)).values({
      id: uuidv7(this.clock.now(), this.clock.random(10)),
      name: WEB_PUSH,
      kind: WEB_PUSH,
      stage: 'live',
      settings: {},
      createdAt: now,
      updatedAt: now,
      sealed: this.#seal(environment, [this.#newKey()]),
    });
  }

  #newKey(): PushKeys[number] {
    return {
      id: this.clock.random(6).toString('hex'),
      secret: generateSigningKey().toString('base64url'),
      createdAt: new Date(this.clock.now()).toISOString(),
    };
  }

  #seal(environment: Environment, keys: PushKeys): string {
    return seal(environment.keys.data, `${environment.sealedFor}:${WEB_PUSH}`, JSON.stringify(keys));
  }

  async #stored(environment: Environment): Promise<PushKeys> {
    const { db } = environment;
    const [row] = await db.orm.select().from(db.table(gatewayTable)).where(eq(gatewayTable.kind, WEB_PUSH));
    if (!row) throw new Problem('not-found', 'The environment has no web push gateway.');
    const plain = unseal(environment.keys.data, `${environment.sealedFor}:${WEB_PUSH}`, row.sealed);
    // Before keys could be rotated, the 32 octets of the one key were stored.
    return plain.length === 32
      ? [{ id: 'first', secret: plain.toString('base64url'), createdAt: row.createdAt.toISOString() }]
      : JSON.parse(plain.toString());
  }

  async #keys(environment: Environment): Promise<LoadedKeys['keys']> {
    const known = this.#loaded.get(environment.id);
    if (known && known.until > this.clock.now()) return known.keys;
    const stored = await this.#stored(environment);
    const keys = stored.map(({ id, secret }) => ({ id, ...signingKeyFrom(Buffer.from(secret, 'base64url')) }));
    this.#loaded.set(environment.id, { keys, until: this.clock.now() + REMEMBER_MS });
    return keys;
  }

  /** `applicationServerKey` of new subscriptions. */
  async publicKey(environment: Environment): Promise<string> {
    return ((await this.#keys(environment)).at(-1) as SigningKey).publicKey;
  }

  /** The id of the key a subscription was made with; of the latest, when the app does not say. */
  async keyIdOf(environment: Environment, publicKey: string | undefined): Promise<string> {
    const keys = await this.#keys(environment);
    const found = publicKey ? keys.find((key) => key.publicKey === publicKey) : keys.at(-1);
    if (!found)
      throw new Problem(
        'invalid-input',
        'The subscription uses a key that is not from this environment. Subscribe again with the key of GET /app/v1/push-key.',
        {
          fields: [
            { path: 'body.pushKey', problem: 'It is not a web push key of this environment.', expected: 'the key of GET /app/v1/push-key' },
          ],
        },
      );
    return found.id;
  }

  /** Adds a new key. Devices subscribed with an older key are reached with that key until they subscribe again. */
  async rotate(environment: Environment): Promise<void> {
    const keys = [...(await this.#stored(environment)), this.#newKey()];
    await this.#write(environment, keys);
  }

  /** The keys in use, without their secrets. */
  async describe(environment: Environment): Promise<{ id: string; createdAt: string }[]> {
    return (await this.#stored(environment)).map(({ id, createdAt }) => ({ id, createdAt }));
  }

  /** Deletes old keys that no device was subscribed with. */
  async dropUnused(environment: Environment, used: ReadonlySet<string>): Promise<void> {
    const stored = await this.#stored(environment);
    const kept = stored.filter(({ id }, i) => i === stored.length - 1 || used.has(id));
    if (kept.length < stored.length) await this.#write(environment, kept);
  }

  async #write(environment: Environment, keys: PushKeys): Promise<void> {
    const { db } = environment;
    await db.orm
      .update(db.table(gatewayTable))
      .set({ sealed: this.#seal(environment, keys), updatedAt: new Date(this.clock.now()) })
      .where(eq(gatewayTable.kind, WEB_PUSH));
    this.#loaded.delete(environment.id);
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
    throw new Problem('invalid-input', `${problem} To use one on a private address, list its origin in ORCHARD_PUSH_ORIGINS.`, {
      fields: [{ path: 'body.subscription.endpoint', problem, expected: 'an https address that is not private' }],
    });
  }

  async #authorization(environment: Environment, origin: string, keyId: string | null | undefined): Promise<string> {
    const keys = await this.#keys(environment);
    const key = keys.find(({ id }) => id === keyId) ?? (keys[0] as LoadedKeys['keys'][number]);
    const name = `${environment.id} ${key.id} ${origin}`;
    const known = this.#tokens.get(name);
    if (known && known.until > this.clock.now()) return known.header;
    const contact = this.contact();
    const claims = {
      aud: origin,
      exp: Math.floor((this.clock.now() + TOKEN_MS) / 1000),
      ...(contact.startsWith('https:') ? { sub: contact } : {}),
    };
    const header = vapidHeader(key, claims);
    this.#tokens.set(name, { header, until: this.clock.now() + TOKEN_MS - 3_600_000 });
    return header;
  }

  #compose({ notification, content, overlay }: OutgoingMessage): Uint8Array {
    const known = this.#composed.get(content);
    if (known) return known;
    const bytes = composeMessage(notification.id, notification.sentAt, content, overlay);
    this.#composed.set(content, bytes);
    return bytes;
  }

  /** The web push gateway of one environment. */
  senderFor(environment: Environment): Sender {
    const flight = new FlightWidth(LEAST_IN_FLIGHT, MOST_IN_FLIGHT);
    return {
      // An instance sends two sets at a time.
      get atOnce() {
        return Math.ceil(flight.width / 2);
      },
      send: async (message) => {
        const started = performance.now();
        const outcome = await this.#send(environment, message);
        if (outcome.answer !== null) flight.note(performance.now() - started);
        return outcome;
      },
      sizeOf: (message) => ({ bytes: this.#compose(message).length, mostBytes: MAX_MESSAGE_BYTES }),
      check: async () => [{ what: 'key', ok: true, text: `Apps subscribe with ${(await this.publicKey(environment)).slice(0, 12)}….` }],
      close: () => undefined,
    };
  }

  /** Encrypts for one device and posts. Never throws: every failure is an outcome. */
  async #send(environment: Environment, message: OutgoingMessage): Promise<Outcome> {
    const plain = this.#compose(message);
    if (plain.length > MAX_MESSAGE_BYTES)
      return { kind: 'refused', answer: null, reason: `The message has ${plain.length} bytes; web push allows ${MAX_MESSAGE_BYTES}.` };
    const { p256dh, auth } = message.target;
    let body: Uint8Array;
    try {
      body = await encryptInThread({ plain, p256dh: p256dh ?? '', auth: auth ?? '', salt: this.clock.random(16) });
    } catch (error) {
      if (error instanceof ThreadLost) return { kind: 'later', answer: null, reason: 'It could not be encrypted yet.', afterMs: null };
      return { kind: 'refused', answer: null, reason: 'The subscription’s key is not a point on P-256; the app must subscribe again.' };
    }
    try {
      return await this.#post(environment, message, body);
    } catch (error) {
      return { kind: 'later', answer: null, reason: `The push network cannot be reached: ${connectionWords(error)}.`, afterMs: null };
    }
  }

  async #post(environment: Environment, { target, notification, ttlS }: OutgoingMessage, body: Uint8Array): Promise<Outcome> {
    const url = new URL(target.endpoint ?? '');
    const headers: Record<string, string> = {
      authorization: await this.#authorization(environment, url.origin, target.pushKey),
      'content-encoding': 'aes128gcm',
      'content-type': 'application/octet-stream',
      ttl: String(ttlS),
      urgency: notification.urgency,
      ...(notification.replaces ? { topic: notification.replaces } : {}),
    };
    const reply = await this.#agent.request({ origin: url.origin, path: url.pathname + url.search, method: 'POST', headers, body });
    const text = reply.statusCode < 300 ? (await reply.body.dump(), '') : (await reply.body.text()).slice(0, 200);
    const exchange: HttpExchange = { method: 'POST', url, headers, body: body.length, answer: { headers: reply.headers, text } };
    return Object.assign(readAnswer(reply.statusCode, reply.headers, text, this.clock.now()), { exchange });
  }

  close(): Promise<void> {
    return this.#agent.close();
  }
}

/** RFC 8030 sections 5, 7.2, 7.3 and 8.4. */
function readAnswer(status: number, headers: Dispatcher.ResponseData['headers'], text: string, now: number): Outcome {
  const said = text ? `: ${text.replace(/\s+/g, ' ')}` : '';
  const afterMs = readRetryAfter(headers['retry-after'] as string | undefined, now);
  if (status >= 200 && status < 300) return { kind: 'accepted', answer: status };
  if (status === 404 || status === 410)
    return { kind: 'gone', answer: status, reason: `The push network answered ${status}: the subscription has ended.` };
  if (status === 413) return { kind: 'refused', answer: status, reason: `The push network answered 413: the message is too large${said}` };
  if (status === 429) return { kind: 'later', answer: status, reason: 'The push network answered 429: too many messages.', afterMs };
  if (status >= 500) return { kind: 'later', answer: status, reason: `The push network answered ${status}${said}`, afterMs };
  return { kind: 'refused', answer: status, reason: `The push network answered ${status}${said}` };
}
