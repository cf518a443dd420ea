/** Gateways that a mapping describes: push by certificate, push by token, and anything else over HTTP. */
import type { JsonObject } from '@orchard/core';
import { readRetryAfter } from '@orchard/core';
import { type AnswerMeaning, type CompiledMapping, MissingValue, readPhoneNumber } from '@orchard/core/messages';
import { type Agent, request } from 'undici';
import type { BearerTokens } from './bearerTokens.js';
import { Http2Pool, type HttpAnswer } from './http2Pool.js';
import { type CheckStep, connectionWords, type HttpExchange, type OutgoingMessage, type Outcome, type Sender } from './sender.js';

export type MappedSetup = {
  mapping: CompiledMapping;
  /** What templates may name besides the message: client, gateway, credential. */
  values: JsonObject;
  /** PEM: client certificate and key, and the authority to trust. */
  tls: { key?: string; cert?: string; ca?: string };
  tokens: BearerTokens | null;
  /** A constant Authorization header, e.g. of an HTTP gateway. */
  authorization: string | null;
  agent: Agent;
  /** Sender of a short message to a number. */
  senderFor: ((number: string) => string) | null;
  now: () => number;
};

/** The content of a message, the same for every recipient. */
type Said = Pick<OutgoingMessage, 'notification' | 'content' | 'ttlS'> & { badge: number | null };

const CONNECTIONS = 4;
const ANSWER_WITHIN_MS = 15_000;

export class MappedSender implements Sender {
  readonly atOnce = 256;
  readonly #pools = new Map<string, Http2Pool>();
  #latest: (Omit<Said, 'notification'> & { id: string; expiresAtS: number; values: JsonObject }) | null = null;

  constructor(private readonly setup: MappedSetup) {}

  #valuesOf({ notification, content, target, ttlS }: OutgoingMessage): JsonObject {
    const { values, senderFor } = this.setup;
    const badge = content.badge === '+1' ? (target.badge ?? 0) + 1 : (content.badge ?? null);
    const filled: JsonObject = {
      client: values.client ?? null,
      credential: values.credential ?? null,
      gateway: values.gateway ?? null,
      notification: this.#sharedOf({ notification, content, badge, ttlS }),
      device: {
        id: target.target,
        token: target.token ?? null,
        platform: target.platform,
        locale: target.locale,
        timeZone: target.timeZone,
      },
      delivery: { id: `${notification.id}.${target.target}` },
    };
    if (!senderFor) return filled;
    const phone = readPhoneNumber(target.target);
    filled.phone = { number: phone.number, digits: phone.number.slice(1), country: phone.country };
    filled.gateway = { ...(values.gateway as JsonObject), sender: senderFor(phone.number) };
    return filled;
  }

  /** What consecutive messages have in common is built once. */
  #sharedOf(said: Said): JsonObject {
    const { notification, content, badge, ttlS } = said;
    const expiresAtS = Math.floor(notification.expiresAt / 1000);
    const latest = this.#latest;
    if (
      latest?.content === content &&
      latest.id === notification.id &&
      latest.badge === badge &&
      latest.ttlS === ttlS &&
      latest.expiresAtS === expiresAtS
    )
      return latest.values;
    const values: JsonObject = {
      ...(content as JsonObject),
      badge,
      dataText: content.data ? JSON.stringify(content.data) : null,
      shows: !content.silent,
      text: content.body ?? content.title ?? '',
      id: notification.id,
      priority: notification.urgency,
      collapse: notification.replaces,
      sentAt: notification.sentAt,
      ttlS,
      expiresAtS,
    };
    this.#latest = { content, id: notification.id, badge, ttlS, expiresAtS, values };
    return values;
  }

  sizeOf(message: OutgoingMessage): { bytes: number; mostBytes: number } {
    const { body } = this.setup.mapping.render(this.#valuesOf(message), message.overlay);
    return { bytes: Buffer.byteLength(body), mostBytes: this.setup.mapping.document.maxBytes };
  }

  /** Retried with a fresh token when the network rejects the current one. */
  async send(message: OutgoingMessage): Promise<Outcome> {
    const { mapping, tokens } = this.setup;
    let exchange: HttpExchange | undefined;
    try {
      const { method, url, headers, body } = mapping.render(this.#valuesOf(message), message.overlay);
      const bytes = Buffer.byteLength(body);
      if (bytes > mapping.document.maxBytes)
        return {
          kind: 'refused',
          answer: null,
          reason: `The message has ${bytes} bytes; the gateway allows ${mapping.document.maxBytes}.`,
        };
      for (let again = false; ; again = true) {
        const token = tokens && (tokens.atHand() ?? (await tokens.current()));
        const authorization = token ? `Bearer ${token}` : this.setup.authorization;
        if (authorization) headers.authorization = authorization;
        exchange = { method, url, headers, body, answer: null };
        const answer = (exchange.answer = await this.#request(method, url, headers, body));
        const read = mapping.readAnswer(answer.status, answer.headers, answer.text);
        if (read.is === 'credentials-refused' && token && !again) tokens?.forget(token);
        else return Object.assign(this.#outcome(read, answer), { exchange });
      }
    } catch (error) {
      if (error instanceof MissingValue)
        return { kind: 'refused', answer: null, reason: `The gateway mapping cannot be filled in: ${error.message}` };
      const reason = `The network cannot be reached: ${connectionWords(error)}.`;
      return { kind: 'later', answer: null, reason, afterMs: null, ...(exchange ? { exchange } : {}) };
    }
  }

  #outcome(read: { is: AnswerMeaning; messageId: string | null; said: string | null }, answer: HttpAnswer): Outcome {
    const said = read.said ?? (answer.status >= 300 ? answer.text.replace(/\s+/g, ' ').slice(0, 200) || null : null);
    const base = { answer: answer.status, said, messageId: read.messageId };
    if (read.is === 'accepted') return Object.assign(base, { kind: 'accepted' as const });
    const words = `The network answered ${answer.status}${said ? ` (${said.slice(0, 120)})` : ''}`;
    switch (read.is) {
      case 'address-dead':
        return { ...base, kind: 'gone', reason: `${words}: the device is gone.` };
      case 'later':
        return {
          ...base,
          kind: 'later',
          reason: `${words}: will be retried.`,
          afterMs: readRetryAfter(answer.headers['retry-after'], this.setup.now()),
        };
      case 'credentials-refused':
        // The gateway must be fixed first; waiting deliveries are not lost meanwhile.
        return { ...base, kind: 'later', reason: `${words}: it rejects the gateway’s credential.`, afterMs: null, credentials: true };
      case 'too-large':
        return { ...base, kind: 'refused', reason: `${words}: the message is too large.` };
      case 'refused':
        return { ...base, kind: 'refused', reason: `${words}.` };
    }
  }

  #request(method: string, url: URL, headers: Record<string, string>, body: string): Promise<HttpAnswer> {
    return this.setup.mapping.document.protocol === 'h2'
      ? this.#pool(url.origin).request(method, url.pathname + url.search, headers, body)
      : this.#requestAlone(method, url, headers, body);
  }

  async #requestAlone(method: string, url: URL, headers: Record<string, string>, body: string): Promise<HttpAnswer> {
    const reply = await request(url, {
      method: method as 'POST',
      headers,
      ...(body ? { body } : {}),
      dispatcher: this.setup.agent,
      headersTimeout: ANSWER_WITHIN_MS,
      bodyTimeout: ANSWER_WITHIN_MS,
    });
    return { status: reply.statusCode, headers: reply.headers as HttpAnswer['headers'], text: (await reply.body.text()).slice(0, 4000) };
  }

  #pool(origin: string): Http2Pool {
    let pool = this.#pools.get(origin);
    if (!pool) {
      pool = new Http2Pool(origin, { connections: CONNECTIONS, tls: this.setup.tls });
      this.#pools.set(origin, pool);
    }
    return pool;
  }

  async check(): Promise<CheckStep[]> {
    const { mapping, tokens, values } = this.setup;
    const address = (values.gateway as { address: string }).address;
    const steps: CheckStep[] = [];
    const step = async (what: string, work: () => Promise<string>): Promise<boolean> => {
      try {
        steps.push({ what, ok: true, text: await work() });
        return true;
      } catch (error) {
        steps.push({ what, ok: false, text: `${connectionWords(error)}.`.replace(/\.\.$/, '.') });
        return false;
      }
    };
    if (tokens && !(await step('token', async () => (await tokens.current(), 'A bearer token was obtained.')))) return steps;
    await step('connection', async () => {
      const { origin } = new URL(address);
      if (mapping.document.protocol === 'h2') await this.#pool(origin).ping();
      else await (await request(origin, { method: 'HEAD', dispatcher: this.setup.agent, headersTimeout: ANSWER_WITHIN_MS })).body.dump();
      const how = this.setup.tls.cert ? 'accepted the client certificate' : 'answers';
      return `${origin} ${how} over ${mapping.document.protocol === 'h2' ? 'HTTP/2' : 'HTTP/1.1'}.`;
    });
    return steps;
  }

  close(): void {
    for (const pool of this.#pools.values()) pool.close();
    void this.setup.agent.close();
  }
}
