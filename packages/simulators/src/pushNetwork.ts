/** A push network: the push service of RFC 8030, with the checks of RFC 8291 and RFC 8292 and faults on request. */
import { randomBytes } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { setTimeout as sleep } from 'node:timers/promises';
import { readVapidHeader } from '@orchard/core/push';
import { type Fault, Faults } from './faults.js';

export type StoredSubscription = { id: string; applicationServerKey: string | null; over: boolean };
type Message = { id: string; body: Buffer; topic: string | null; expiresAt: number };
type Subscription = StoredSubscription & { waiting: Message[]; listener: ((body: Buffer) => void) | null };

const MAX_BODY = 4096;
const MOST_WAITING = 50;
const URGENCIES = new Set(['very-low', 'low', 'normal', 'high']);

export class PushNetwork {
  readonly #subscriptions = new Map<string, Subscription>();
  /** Authorization headers found good, until they expire. */
  readonly #verified = new Map<string, { publicKey: string; until: number }>();
  readonly #faults = new Faults();
  /** Messages accepted since the start. */
  accepted = 0;

  /** @param origin the network's own, which RFC 8292 tokens must name */
  constructor(
    private readonly origin: () => string,
    private readonly onChange: () => void = () => undefined,
  ) {}

  get fault(): Fault {
    return this.#faults.current;
  }

  setFault(fault: Fault): void {
    this.#faults.set(fault);
  }

  /** A new subscription for a user agent; restricted to one application server when its key is given (RFC 8292 section 4). */
  subscribe(applicationServerKey: string | null): { id: string; endpoint: string } {
    const id = randomBytes(18).toString('base64url');
    this.#subscriptions.set(id, { id, applicationServerKey, over: false, waiting: [], listener: null });
    this.onChange();
    return { id, endpoint: this.endpoint(id) };
  }

  endpoint(id: string): string {
    return `${this.origin()}/push/${id}`;
  }

  /** Ends a subscription: messages for it are answered 410 from now on. */
  unsubscribe(id: string): void {
    const subscription = this.#subscriptions.get(id);
    if (!subscription) return;
    subscription.over = true;
    subscription.waiting = [];
    this.onChange();
  }

  /** Connects a user agent: it receives waiting and new messages. */
  listen(id: string, listener: (body: Buffer) => void): void {
    const subscription = this.#subscriptions.get(id);
    if (!subscription) return;
    subscription.listener = listener;
    const now = Date.now();
    for (const message of subscription.waiting.splice(0)) if (message.expiresAt > now) listener(message.body);
  }

  /** The user agent is off the network: messages wait for it, as long as their TTL. */
  disconnect(id: string): void {
    const subscription = this.#subscriptions.get(id);
    if (subscription) subscription.listener = null;
  }

  store(): StoredSubscription[] {
    return [...this.#subscriptions.values()].map(({ id, applicationServerKey, over }) => ({ id, applicationServerKey, over }));
  }

  restore(stored: StoredSubscription[]): void {
    for (const subscription of stored) this.#subscriptions.set(subscription.id, { ...subscription, waiting: [], listener: null });
  }

  /** Handles requests under /push, /subscriptions and /faults; false for other paths. */
  async handle(request: IncomingMessage, response: ServerResponse): Promise<boolean> {
    const path = request.url?.split('?')[0] ?? '';
    if (path.startsWith('/push/')) await this.#receive(path.slice(6), request, response);
    else if (path === '/subscriptions' && request.method === 'POST') await this.#openSubscription(request, response);
    else if (path.startsWith('/subscriptions/') && request.method === 'DELETE') {
      this.unsubscribe(path.slice(15));
      answer(response, 204);
    } else if (path === '/faults') await this.#serveFaults(request, response);
    else return false;
    return true;
  }

  /** RFC 8030 section 4: 201, the subscription in Location, the push resource as a link. */
  async #openSubscription(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const body = await readBody(request, 10_000);
    const options = body?.length ? JSON.parse(body.toString()) : {};
    const { id, endpoint } = this.subscribe(options.vapid ?? null);
    response.writeHead(201, { location: `${this.origin()}/subscriptions/${id}`, link: `<${endpoint}>; rel="urn:ietf:params:push"` }).end();
  }

  /** RFC 8030 section 5: an application server asks for delivery of a message. */
  async #receive(id: string, request: IncomingMessage, response: ServerResponse): Promise<void> {
    const body = await readBody(request, MAX_BODY);
    if (await this.#faulted(request, response)) return;
    if (request.method !== 'POST') return answer(response, 405, 'A push resource takes POST.');
    const subscription = this.#subscriptions.get(id);
    if (!subscription) return answer(response, 404, 'There is no such subscription.');
    if (subscription.over) return answer(response, 410, 'The subscription is over.');
    // Section 7.2: 413 for a body that is too large; 4096 octets must be taken.
    if (!body) return answer(response, 413, `At most ${MAX_BODY} bytes.`);
    const { ttl, urgency = 'normal', topic } = request.headers as Record<string, string | undefined>;
    // Section 5.2: the TTL header must be there.
    if (!ttl || !/^\d+$/.test(ttl)) return answer(response, 400, 'The TTL header is missing or not a number of seconds.');
    if (!URGENCIES.has(urgency)) return answer(response, 400, `Urgency ${urgency} is not one of ${[...URGENCIES].join(', ')}.`);
    if (topic && !/^[A-Za-z0-9_-]{1,32}$/.test(topic))
      return answer(response, 400, 'Topic takes up to 32 characters of the base64url alphabet.');
    if (request.headers['content-encoding'] !== 'aes128gcm') return answer(response, 400, 'Content-Encoding must be aes128gcm.');
    const refusal = this.#identify(subscription, request.headers.authorization);
    if (refusal) return answer(response, refusal.status, refusal.text);
    const message = { id: randomBytes(12).toString('base64url'), body, topic: topic ?? null, expiresAt: Date.now() + Number(ttl) * 1000 };
    response.writeHead(201, { location: `${this.origin()}/messages/${message.id}`, ttl, 'content-length': 0 }).end();
    this.#deliver(subscription, message);
  }

  #deliver(subscription: Subscription, message: Message): void {
    this.accepted++;
    if (subscription.listener) {
      subscription.listener(message.body);
      return;
    }
    // Section 5.4: a waiting message with the same topic is replaced.
    if (message.topic) subscription.waiting = subscription.waiting.filter(({ topic }) => topic !== message.topic);
    subscription.waiting.push(message);
    if (subscription.waiting.length > MOST_WAITING) subscription.waiting.shift();
  }

  /** RFC 8292 section 4.2: 401 without a valid token, 403 when it is signed with another key than the subscription's. */
  #identify(subscription: Subscription, header: string | undefined): { status: number; text: string } | null {
    if (!header) return subscription.applicationServerKey ? { status: 401, text: 'This subscription asks for VAPID.' } : null;
    const now = Date.now();
    let known = this.#verified.get(header);
    if (!known || known.until <= now) {
      const reading = readVapidHeader(header, this.origin(), now);
      if (!reading.ok) return { status: 401, text: reading.reason };
      known = { publicKey: reading.publicKey, until: reading.claims.exp * 1000 };
      this.#verified.set(header, known);
    }
    const restricted = subscription.applicationServerKey;
    return restricted && restricted !== known.publicKey
      ? { status: 403, text: 'The subscription belongs to another application server key.' }
      : null;
  }

  /** Answers in place of the network while a fault is set. */
  async #faulted(request: IncomingMessage, response: ServerResponse): Promise<boolean> {
    const fault = this.#faults.take();
    switch (fault.mode) {
      case 'throttle':
        response.setHeader('retry-after', fault.retryAfterS);
        answer(response, 429, 'Too many messages.');
        return true;
      case 'refuse':
        answer(response, fault.status, 'Refused on request.');
        return true;
      case 'drop':
        request.socket.destroy();
        return true;
      case 'slow':
        await sleep(fault.delayMs);
        return false;
      default:
        return false;
    }
  }

  async #serveFaults(request: IncomingMessage, response: ServerResponse): Promise<void> {
    if (request.method === 'PUT') this.setFault(JSON.parse((await readBody(request, 10_000))?.toString() ?? '{"mode":"none"}'));
    response.writeHead(200, { 'content-type': 'application/json' }).end(JSON.stringify(this.fault));
  }
}

function answer(response: ServerResponse, status: number, text = ''): void {
  response.writeHead(status, { 'content-type': 'text/plain', 'content-length': Buffer.byteLength(text) }).end(text);
}

/** The whole body, or null when it is longer than `most` bytes. */
export async function readBody(request: IncomingMessage, most: number): Promise<Buffer | null> {
  const chunks: Buffer[] = [];
  let size = 0;
  for await (const chunk of request) {
    size += (chunk as Buffer).length;
    if (size <= most) chunks.push(chunk as Buffer);
  }
  return size <= most ? Buffer.concat(chunks) : null;
}
