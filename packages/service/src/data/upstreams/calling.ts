/** Calls of one upstream: kept answers, retries within a budget, and a rest when most calls fail. */
import { setTimeout as sleep } from 'node:timers/promises';
import { Problem, type Upstream, type UpstreamDefinition } from '@orchard/contract';
import CircuitBreaker from 'opossum';
import { Agent } from 'undici';
import type { Environment } from '../../platform/call.js';
import { hostsOf, publicConnector } from '../../platform/http/publicHosts.js';
import { CallRefused } from '../functions/callRefused.js';
import { CallHistory } from './callHistory.js';
import { exchange, ExchangeFailed, type Received, type Sent } from './exchange.js';
import { exchangeOf } from './exchangeNote.js';
import { Identifying } from './identifying.js';
import type { KeptAnswers } from './keptAnswers.js';
import type { Answer, Order } from './order.js';
import type { Parts } from './parts.js';
import { Recordings } from './recordings.js';
import { definitionOf, type UpstreamRow, type UpstreamStore } from './store.js';

/** RFC 9110 section 9.2.2: repeating one of these does no more than once. */
const REPEATABLE = new Set(['GET', 'HEAD', 'PUT', 'DELETE']);
/** Answers after which another try may help. */
const PASSING = new Set([429, 502, 503, 504]);
const FIRST_WAIT_MS = 50;
const MOST_BUDGET = 10;
/** An answer that counts as a failure of the system. */
class FailingAnswer extends Error {
  constructor(readonly received: Received) {
    super(`It answers ${received.status}.`);
  }
}

export class UpstreamConnection {
  readonly definition: UpstreamDefinition;
  readonly identifying: Identifying;
  readonly #agent: Agent;
  readonly #breaker: CircuitBreaker<[Sent, number], Received>;
  readonly #history = new CallHistory();
  readonly #recordings: Recordings;
  #budget = MOST_BUDGET / 2;

  constructor(
    private readonly parts: Parts,
    private readonly environment: Environment,
    readonly row: UpstreamRow,
    private readonly kept: KeptAnswers,
    store: UpstreamStore,
    certificateKey: string | null,
  ) {
    this.definition = definitionOf(row);
    const { timeoutMs, mostBytes, atOnce, trust, breaker, identify } = this.definition;
    const ownCertificate = identify.way === 'certificate' && certificateKey ? { cert: identify.certificate, key: certificateKey } : {};
    this.#agent = new Agent({
      connections: atOnce,
      headersTimeout: timeoutMs,
      bodyTimeout: timeoutMs,
      maxResponseSize: mostBytes,
      connect: publicConnector(hostsOf(parts.config.pushOrigins), {
        timeout: Math.min(timeoutMs, 5_000),
        ...(trust ? { ca: trust } : {}),
        ...ownCertificate,
      }),
    });
    this.identifying = new Identifying(parts, environment, identify, this.#agent);
    this.#recordings = new Recordings(store, environment, row.name, this.identifying.isPersonal);
    this.#breaker = new CircuitBreaker<[Sent, number], Received>(async (sent, withinMs) => this.#attempt(sent, withinMs), {
      timeout: false,
      capacity: atOnce,
      errorThresholdPercentage: breaker.failingShare * 100,
      volumeThreshold: breaker.least,
      resetTimeout: breaker.restMs,
      rollingCountTimeout: 10_000,
    });
  }

  /** @throws {Problem} upstream-failed, upstream-resting */
  async call(order: Order): Promise<Answer> {
    const started = performance.now();
    let [failed, cached] = [true, false];
    try {
      const answer = await (this.definition.mode === 'play' ? this.#played(order) : this.#called(order, started));
      failed = answer.status >= 500;
      cached = answer.cached;
      return answer;
    } finally {
      this.#history.note({ at: this.parts.now(), failed, cached, ms: performance.now() - started });
    }
  }

  async #played(order: Order): Promise<Answer> {
    return { ...(await this.#recordings.play(order)), cached: false, tries: 0 };
  }

  async #called(order: Order, started: number): Promise<Answer> {
    const sent = this.#sentOf(order);
    const isKept = this.definition.cache && sent.method === 'GET';
    const key = `${this.environment.id} ${this.row.name} ${this.identifying.isPersonal ? order.userId : ''} ${sent.url.href}`;
    const asked = { method: sent.method, url: sent.url.href, headers: sent.headers };
    const found = isKept ? this.kept.find(key, asked) : null;
    if (found && 'fresh' in found) return { ...found.fresh, cached: true, tries: 0 };
    if (found) sent.headers = found.headers;
    const { received, tries } = await this.#tried(sent, order, started);
    if (found) return { ...this.kept.revalidated(key, asked, found.stale, received), cached: received.status === 304, tries };
    if (isKept) this.kept.keep(key, asked, received, !this.identifying.isPersonal);
    if (this.definition.mode === 'record' && received.status < 500)
      await this.#recordings.record(order, received, new Date(this.parts.now()));
    return { ...received, cached: false, tries };
  }

  #sentOf({ method, path, query, headers, body }: Order): Sent {
    const url = addressOf(this.definition.address, path);
    for (const [name, value] of Object.entries(query)) url.searchParams.append(name, value);
    const text = body === undefined || body === null ? null : typeof body === 'string' ? body : JSON.stringify(body);
    return {
      method,
      url,
      headers: {
        accept: 'application/json',
        ...(text !== null ? { 'content-type': 'application/json' } : {}),
        ...lowerCased(headers),
        'accept-encoding': 'gzip',
      },
      body: text,
    };
  }

  /** Tries until an answer is there, the tries are used up, or no time is left. */
  async #tried(sent: Sent, { userId, trace }: Order, started: number): Promise<{ received: Received; tries: number }> {
    const { tries, timeoutMs, retryShare } = this.definition;
    const most = REPEATABLE.has(sent.method) ? tries : 1;
    this.#budget = Math.min(MOST_BUDGET, this.#budget + retryShare);
    for (let attempt = 1; ; attempt++) {
      const left = timeoutMs - (performance.now() - started);
      const ended = await this.#once(sent, userId, trace, left);
      const wait = this.#waitAfter(ended, attempt);
      const mayTry = attempt < most && wait !== null && wait < timeoutMs - (performance.now() - started) && this.#budget >= 1;
      if (!mayTry) {
        if ('received' in ended) return { received: ended.received, tries: attempt };
        throw ended.problem;
      }
      this.#budget -= 1;
      await sleep(wait);
    }
  }

  /** How long to wait before another try, with jitter; null where none would help. */
  #waitAfter(ended: { received: Received } | { problem: unknown; isPassing: boolean }, attempt: number): number | null {
    const backoff = FIRST_WAIT_MS * 2 ** (attempt - 1) * (0.5 + Math.random());
    if (!('received' in ended)) return ended.isPassing ? backoff : null;
    if (!PASSING.has(ended.received.status)) return null;
    const after = Number(ended.received.headers['retry-after']);
    return Number.isFinite(after) && after > 0 ? after * 1000 : backoff;
  }

  async #once(
    sent: Sent,
    userId: string | null,
    trace: string | null,
    withinMs: number,
  ): Promise<{ received: Received } | { problem: unknown; isPassing: boolean }> {
    const began = performance.now();
    let full = sent;
    try {
      const shown = await this.identifying.headers(userId);
      full = {
        ...sent,
        headers: { ...sent.headers, ...(trace ? { traceparent: traceparentOf(this.parts, trace) } : {}), ...shown.headers },
      };
      let received = await this.#fire(full, withinMs);
      // A token that was taken back early: another one, once.
      if (received.status === 401 && shown.headers.authorization?.startsWith('Bearer ')) {
        shown.forget();
        const next = await this.identifying.headers(userId);
        received = await this.#fire({ ...full, headers: { ...full.headers, ...next.headers } }, withinMs);
      }
      this.#recordExchange(full, received, null, began, trace);
      return { received };
    } catch (error) {
      if (error instanceof ExchangeFailed) this.#recordExchange(full, null, error, began, trace);
      return {
        problem: this.#problemOf(error),
        isPassing: error instanceof ExchangeFailed && ['unreachable', 'broken'].includes(error.trouble),
      };
    }
  }

  async #fire(sent: Sent, withinMs: number): Promise<Received> {
    try {
      return await this.#breaker.fire(sent, withinMs);
    } catch (error) {
      if (error instanceof FailingAnswer) return error.received;
      throw error;
    }
  }

  async #attempt(sent: Sent, withinMs: number): Promise<Received> {
    const received = await exchange(this.#agent, sent, { withinMs, mostBytes: this.definition.mostBytes });
    if (received.status >= 500 || received.status === 429) throw new FailingAnswer(received);
    return received;
  }

  #problemOf(error: unknown): unknown {
    const { name } = this.row;
    const code = (error as NodeJS.ErrnoException).code;
    const retryAfterS = Math.ceil(this.definition.breaker.restMs / 1000);
    if (code === 'EOPENBREAKER')
      return new Problem('upstream-resting', `Most calls of ${name} failed, so it is left alone for up to ${retryAfterS} s.`, {
        retryAfterS,
      });
    if (code === 'ESEMLOCKED')
      return new Problem(
        'upstream-resting',
        `${this.definition.atOnce} calls of ${name} are in flight, which is as many as it gets at a time.`,
        { retryAfterS: 1 },
      );
    if (error instanceof ExchangeFailed || error instanceof CallRefused)
      return new Problem('upstream-failed', `${name} did not answer as it should.`, {
        teamDetail: `The upstream ${name}: ${error.message}`,
      });
    return error;
  }

  #recordExchange(sent: Sent, received: Received | null, failure: ExchangeFailed | null, began: number, trace: string | null): void {
    const durationUs = (performance.now() - began) * 1000;
    this.parts.ports.recordExchange(
      this.environment,
      exchangeOf(this.row.name, this.definition, { sent, received, failure, durationUs, trace }),
    );
  }

  health(): Upstream['health'] {
    const summary = this.#history.summary(this.parts.now());
    const isFailing = summary.failed > summary.calls / 2;
    return {
      state: this.#breaker.opened ? 'resting' : isFailing ? 'failing' : 'well',
      ...summary,
      keptBytes: this.kept.bytesOf(`${this.environment.id} ${this.row.name} `),
    };
  }

  close(): void {
    this.#breaker.shutdown();
    void this.#agent.close();
  }
}

/** An address below another: a path never leaves it. @throws {CallRefused} */
function addressOf(address: string, path: string): URL {
  const base = new URL(address);
  const beginning = base.pathname.replace(/\/$/, '');
  const url = new URL(`${base.origin}${beginning}${path === '' || path.startsWith('/') ? '' : '/'}${path}`);
  // A name that begins alike is another place.
  if (url.pathname === (beginning || '/') || url.pathname.startsWith(`${beginning}/`)) return url;
  throw new CallRefused(`${path.slice(0, 100)} leads out of the upstream.`);
}

const lowerCased = (headers: Record<string, string>): Record<string, string> =>
  Object.fromEntries(Object.entries(headers).map(([name, value]) => [name.toLowerCase(), value]));
/** W3C Trace Context section 3.2. */
const traceparentOf = ({ random }: Parts, trace: string): string => `00-${trace}-${random(8).toString('hex')}-01`;
