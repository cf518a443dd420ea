/** The typed HTTP client: one function for every declared operation. */
import type { z } from 'zod';
import { addressOf } from './address.js';
import { readEvents } from './events.js';
import {
  type BodyInputOf,
  type Operation,
  type ParamsOf,
  PROGRESS_EVENTS,
  type Progress,
  type QueryInputOf,
  type ReplyOf,
} from './operation.js';
import { Problem, type ProblemDocument } from './problems.js';

export type HttpClientOptions = {
  /** Base address of the service, without a slash at the end. */
  address: string;
  /** Headers for each call, e.g. the key and the token. */
  headers?: () => Record<string, string>;
  fetch?: typeof globalThis.fetch;
};

// biome-ignore lint/suspicious/noExplicitAny: an operation of any shape
type Any = Operation<any, any, any, any>;
type Part<Name extends string, Value> = [Value] extends [undefined]
  ? { [K in Name]?: undefined }
  : Record<string, never> extends Value
    ? { [K in Name]?: Value }
    : { [K in Name]: Value };
export type CallInput<O extends Any> = Part<'params', ParamsOf<O>> &
  Part<'query', QueryInputOf<O>> &
  Part<'body', BodyInputOf<O>> & {
    headers?: Record<string, string>;
    signal?: AbortSignal;
    /** Told when a response takes longer than a second, for operations that tell it. */
    onProgress?: (progress: Progress) => void;
  };
/** A body that is sent unchanged. */
export type RawBody = NonNullable<RequestInit['body']>;
export type CallReply<O extends Any> = { status: number; headers: Headers; body: ReplyOf<O> };
export type HttpClient = {
  /** Base address of the service. */
  address: string;
  /**
   * Calls an operation and returns the body of the response.
   * @throws {Problem} when the service refuses, TypeError when it cannot be reached
   */
  call<O extends Any>(operation: O, input: CallInput<O>): Promise<ReplyOf<O>>;
  /** The same, with status and headers. */
  exchange<O extends Any>(operation: O, input: CallInput<O>): Promise<CallReply<O>>;
  /** Calls an operation and returns the response as a stream. `raw` is a body that is not JSON. */
  open<O extends Any>(operation: O, input: CallInput<O> & { raw?: RawBody }): Promise<Response>;
};

type LooseInput = {
  params?: Record<string, string>;
  query?: Record<string, unknown>;
  body?: unknown;
  headers?: Record<string, string>;
  signal?: AbortSignal;
  onProgress?: (progress: Progress) => void;
};

const EVENTS = 'text/event-stream';

export function createHttpClient(options: HttpClientOptions): HttpClient {
  const doFetch = options.fetch ?? globalThis.fetch;
  async function open<O extends Any>(operation: O, input: CallInput<O> & { raw?: RawBody }): Promise<Response> {
    const loose = input as LooseInput & { raw?: RawBody };
    const hasBody = loose.body !== undefined;
    const reply = await doFetch(options.address + addressOf(operation, loose), {
      method: operation.method,
      headers: {
        accept: operation.progress && loose.onProgress ? `application/json, ${EVENTS}` : 'application/json',
        ...(hasBody ? { 'content-type': 'application/json' } : {}),
        ...options.headers?.(),
        ...loose.headers,
      },
      ...(hasBody ? { body: JSON.stringify(loose.body) } : loose.raw ? { body: loose.raw, duplex: 'half' } : {}),
      ...(loose.signal ? { signal: loose.signal } : {}),
    } as RequestInit);
    if (!reply.ok) throw Problem.from(readProblem(await reply.text(), reply));
    return reply;
  }
  async function exchange<O extends Any>(operation: O, input: CallInput<O>): Promise<CallReply<O>> {
    const reply = await open(operation, input as CallInput<O> & { raw?: RawBody });
    const { onProgress } = input as LooseInput;
    if (onProgress && reply.headers.get('content-type')?.startsWith(EVENTS))
      return { status: reply.status, headers: reply.headers, body: (await answerOf(reply, onProgress)) as ReplyOf<O> };
    const text = await reply.text();
    return {
      status: reply.status,
      headers: reply.headers,
      // A file is the caller's to read.
      body: (operation.replyTypes ? text : text ? JSON.parse(text) : undefined) as z.output<O['reply']> as ReplyOf<O>,
    };
  }
  return { address: options.address, open, exchange, call: async (operation, input) => (await exchange(operation, input)).body };
}

/** The answer at the end of a response that tells its progress. @throws {Problem} */
async function answerOf(reply: Response, onProgress: (progress: Progress) => void): Promise<unknown> {
  for await (const { event, data } of readEvents(reply)) {
    if (event === PROGRESS_EVENTS.progress) onProgress(data as Progress);
    if (event === PROGRESS_EVENTS.answer) return data;
    if (event === PROGRESS_EVENTS.problem) throw Problem.from(data as ProblemDocument);
  }
  throw new Problem('unexpected', 'The response broke off before its answer. Try again.');
}

/** A proxy may have responded instead of our service: then show its status and the start of its body. */
function readProblem(text: string, reply: Response): ProblemDocument {
  try {
    return JSON.parse(text) as ProblemDocument;
  } catch {
    return {
      type: '/docs/problems/unexpected',
      title: reply.statusText,
      status: reply.status,
      detail: `The answer was ${reply.status} ${reply.statusText}: ${text.slice(0, 200)}`,
    };
  }
}
