/** Calls over HTTP: repeated where that is safe, within a time limit, and told to the app's own logging. */
import { addressOf } from '@orchard/contract/address';
import { CALLS } from './calls.js';
import { Problem, type ProblemDocument, Unreachable } from './problem.js';
import type { CallId, InputOf, ReplyTo } from './types.js';

export type CallOptions = {
  signal?: AbortSignal | undefined;
  /** Most time for one attempt; 30 s without it. */
  timeLimitMs?: number | undefined;
  headers?: Record<string, string>;
};
/** One attempt of a call, when it has ended. */
export type CallTold = {
  call: CallId;
  method: string;
  address: string;
  attempt: number;
  durationMs: number;
  /** Of the W3C trace context: the same in the console. */
  trace: string;
  status?: number;
  request?: string | undefined;
  error?: Error;
};
export type TransportGround = {
  address: string;
  key: string;
  fetch: typeof globalThis.fetch;
  now: () => number;
  /** Headers of who calls, such as the token. */
  who: () => Promise<Record<string, string>>;
  onCall?: ((told: CallTold) => void) | undefined;
};
type Input = {
  params?: Record<string, unknown>;
  query?: Record<string, unknown>;
  body?: unknown;
  raw?: RequestInit['body'];
};

const ATTEMPTS = 4;
const FIRST_WAIT_MS = 400;
const TIME_LIMIT_MS = 30_000;
/** Answers of something on the way, or of a service that is starting or busy. */
const PASSING = new Set([429, 502, 503, 504]);

const hex = (bytes: number): string =>
  [...crypto.getRandomValues(new Uint8Array(bytes))].map((byte) => byte.toString(16).padStart(2, '0')).join('');

export class Transport {
  constructor(private readonly ground: TransportGround) {}

  /** @throws {Problem} when the service refuses, {Unreachable} when no answer of it comes */
  async call<Id extends CallId>(id: Id, input: InputOf<Id>, options: CallOptions = {}): Promise<ReplyTo<Id>> {
    const reply = await this.open(id, input as Input, options);
    return readJson(reply, this.ground.address) as Promise<ReplyTo<Id>>;
  }

  /** The same as a response, for streams and files. */
  async open(id: CallId, input: Input, options: CallOptions = {}): Promise<Response> {
    const [method, path, again] = CALLS[id].split(' ') as [string, string, 'again' | 'key' | undefined];
    const address = this.ground.address + addressOf({ path: `/app/v1/${path}` }, input);
    const trace = hex(16);
    // RFC 9110 section 9.2.2 lets idempotent calls be repeated; the key (draft-ietf-httpapi-idempotency-key-header) makes others so.
    const key: Record<string, string> = again === 'key' ? { 'idempotency-key': crypto.randomUUID() } : {};
    const conditional = Object.keys(options.headers ?? {}).some((name) => /^if-(none-)?match$/i.test(name));
    const canRepeat = again === 'key' || (again === 'again' && !conditional);
    for (let attempt = 1; ; attempt++) {
      const startedAt = this.ground.now();
      const told = { call: id, method, address, attempt, trace };
      try {
        const reply = await this.#once(
          method,
          address,
          { ...options, headers: { ...key, traceparent: `00-${trace}-${hex(8)}-01`, ...options.headers } },
          input,
        );
        this.ground.onCall?.({
          ...told,
          durationMs: this.ground.now() - startedAt,
          status: reply.status,
          request: reply.headers.get('orchard-request') ?? undefined,
        });
        return reply;
      } catch (error) {
        const { status, request } = error as Partial<Problem>;
        this.ground.onCall?.({
          ...told,
          durationMs: this.ground.now() - startedAt,
          ...(status ? { status, request } : {}),
          error: error as Error,
        });
        const wait = canRepeat && attempt < ATTEMPTS && !options.signal?.aborted && isOnline() ? waitAfter(error, attempt) : null;
        if (wait === null) throw error;
        await sleep(wait, options.signal);
      }
    }
  }

  /** A request to an address that the service gave out, such as that of an upload. */
  async raw(address: string, { headers, ...init }: RequestInit): Promise<Response> {
    let reply: Response;
    try {
      reply = await this.ground.fetch(address, {
        ...init,
        headers: { 'orchard-key': this.ground.key, ...(await this.ground.who()), ...(headers as Record<string, string>) },
      });
    } catch (error) {
      if (init.signal?.aborted) throw error;
      throw new Unreachable('network', `${new URL(address).origin} cannot be reached: ${(error as Error).message}`, { cause: error });
    }
    if (!reply.ok) throw refusalOf(await reply.text(), reply);
    return reply;
  }

  async #once(
    method: string,
    address: string,
    { signal, timeLimitMs = TIME_LIMIT_MS, headers }: CallOptions,
    { body, raw }: Input,
  ): Promise<Response> {
    const limit = AbortSignal.timeout(timeLimitMs);
    const init = {
      method,
      headers: {
        accept: 'application/json',
        'orchard-key': this.ground.key,
        ...(body === undefined ? {} : { 'content-type': 'application/json' }),
        ...(await this.ground.who()),
        ...headers,
      },
      body: body === undefined ? (raw ?? null) : JSON.stringify(body),
      // A stream of a body, where one is given (Fetch standard, RequestInit.duplex).
      ...(raw instanceof ReadableStream ? { duplex: 'half' } : {}),
    };
    let reply: Response;
    try {
      // A stream goes on for as long as it likes: the limit is for its beginning.
      reply = await beforeLimit((stop) => this.ground.fetch(address, { ...init, signal: stop }), limit, signal);
    } catch (error) {
      if (signal?.aborted) throw signal.reason;
      if (limit.aborted) throw new Unreachable('time-limit', `${new URL(address).origin} did not answer within ${timeLimitMs / 1000} s.`);
      throw new Unreachable('network', `${new URL(address).origin} cannot be reached: ${(error as Error).message}`, { cause: error });
    }
    if (reply.ok) return reply;
    throw refusalOf(await reply.text(), reply);
  }
}

/** Runs a fetch that ends with the caller's signal, and with the limit until it has answered. */
async function beforeLimit(
  run: (stop: AbortSignal) => Promise<Response>,
  limit: AbortSignal,
  signal: AbortSignal | undefined,
): Promise<Response> {
  const own = new AbortController();
  const stop = () => own.abort();
  limit.addEventListener('abort', stop);
  if (signal?.aborted) stop();
  signal?.addEventListener('abort', stop);
  try {
    return await run(own.signal);
  } finally {
    limit.removeEventListener('abort', stop);
  }
}

/** @throws {Unreachable} where a page of a network's sign-in answers in place of the service */
async function readJson(reply: Response, address: string): Promise<unknown> {
  if (reply.status === 204) return undefined;
  const text = await reply.text();
  try {
    return text === '' ? undefined : JSON.parse(text);
  } catch {
    if ((reply.headers.get('content-type') ?? '').startsWith('text/plain')) return text;
    throw new Unreachable('other-answer', `Something else answered in place of ${address}: ${text.slice(0, 80)}`);
  }
}

function refusalOf(text: string, reply: Response): Error {
  try {
    const document = JSON.parse(text) as ProblemDocument;
    if (typeof document.type === 'string' && typeof document.detail === 'string')
      return Object.assign(new Problem(document), retryAfter(reply));
  } catch {
    // Not of the service.
  }
  const words = `The answer was ${reply.status} ${reply.statusText}: ${text.slice(0, 200)}`;
  return Object.assign(new Unreachable('other-answer', words), { status: reply.status, ...retryAfter(reply) });
}

const retryAfter = (reply: Response) => {
  const seconds = Number(reply.headers.get('retry-after'));
  return seconds > 0 ? { retryAfterMs: seconds * 1000 } : {};
};

/** A device that knows it has no line need not try. */
const isOnline = (): boolean => (globalThis as { navigator?: { onLine?: boolean } }).navigator?.onLine !== false;

/** How long to wait before the next attempt: at random, so that many that failed together do not come back together. */
function waitAfter(error: unknown, attempt: number): number | null {
  const { status, retryAfterMs } = error as { status?: number; retryAfterMs?: number };
  const isPassing =
    error instanceof Unreachable
      ? error.why !== 'time-limit' && (status === undefined || PASSING.has(status))
      : status !== undefined && PASSING.has(status);
  if (!isPassing || (retryAfterMs ?? 0) > 10_000) return null;
  return Math.max(retryAfterMs ?? 0, Math.random() * FIRST_WAIT_MS * 2 ** attempt);
}

export const sleep = (ms: number, signal?: AbortSignal): Promise<void> =>
  new Promise((resolve, reject) => {
    const timer = setTimeout(resolve, ms);
    signal?.addEventListener('abort', () => (clearTimeout(timer), reject(signal.reason)), { once: true });
  });
