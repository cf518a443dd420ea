/** The path of every call, from receiving it to recording it. */
import { promisify } from 'node:util';
import { constants, gzip as gzipWithCallback } from 'node:zlib';
import { type AnyOperation, Problem, type ProblemDocument } from '@orchard/contract';
import { maskSecrets, readTraceparent, uuidv7, writeTraceparent } from '@orchard/core';
import { type Request, type RequestHandler, type Response, Router } from 'express';
import { handle } from '../audit/auditedCall.js';
import { demandHere, MovedAway } from '../access/directory.js';
import { checkConfirmed, checkOrigin, checkRights, identifyKey, identifyMember, identifyUser } from '../access/steps.js';
import type { Rates } from '../instances/rates.js';
import { currentCost } from '../database/connection.js';
import {
  heldByMove,
  isBrokenCheck,
  isDatabaseAway,
  isDatabaseFull,
  isDeadlock,
  isDuplicate,
  isGone,
  isReferenceError,
  isTooSlow,
} from '../database/errors.js';
import type { Platform } from '../platform.js';
import { askHooks, hookedRoute } from './actionHooks.js';
import { AnswerBytes } from './answerBytes.js';
import { passOn, viaName } from './passOn.js';
import type { Answer, Call, Route } from '../call.js';
import { allowReading } from './crossOrigin.js';
import { readBody, validate } from './validate.js';
import { addSpan, inSpan } from './spans.js';

type Step = (call: Call, parts: Platform) => Promise<void> | void;

/** What happens before the handler, in this order; each by the name that a timeline shows. */
const steps = (rates: Rates): [name: string, step: Step][] => [
  ['rate', (call, parts) => rates.limitAddress(call, parts)],
  ['key', identifyKey],
  ['moved', checkPlace],
  ['rate', (call) => rates.limitSignIns(call)],
  ['origin', checkOrigin],
  ['rights', checkRights],
  ['user', identifyUser],
  ['member', identifyMember],
  ['rate', (call) => rates.limitKey(call)],
  ['body', readBody],
  ['checks', validate],
  ['confirmation', checkConfirmed],
  ['hooks', askHooks],
];

/**
 * Serves the given routes. A router looks at its routes one after another, so they stand in many, each found by the beginning of the path.
 */
export function serveRoutes(parts: Platform, routes: Route[], rates: Rates): RequestHandler {
  const routers = new Map<string, Router>();
  const before = steps(rates);
  for (const served of routes) {
    const route = hookedRoute(served, parts);
    const { path: template } = route.operation;
    const path = template.replace(/\{(\w+)\.\.\.\}/g, '*$1').replace(/\{(\w+)\}/g, ':$1');
    const method = route.operation.method.toLowerCase() as 'get' | 'head' | 'post' | 'put' | 'patch' | 'delete' | 'options';
    const beginning = beginningOf(template);
    let router = routers.get(beginning);
    if (!router) routers.set(beginning, (router = Router({ caseSensitive: true })));
    router[method](path, (request, response) => {
      const call = beginCall(parts, route.operation, request, response);
      return currentCost.run(call.cost, () => conduct(call, parts, before, route));
    });
  }
  return (request, response, next) => {
    const router = routers.get(beginningOf(request.path));
    return router ? router(request, response, next) : next();
  };
}

/** `app/v1/data` of any path below it; below an environment, the name of what follows it as well. Other paths begin with names. */
function beginningOf(path: string): string {
  const [, part = '', version, group, , environments, , what = ''] = path.split('/', 8);
  if (version !== 'v1') return part;
  const beginning = `${part}/${version}/${group}`;
  return group === 'apps' && environments === 'environments' ? `${beginning}/${what}` : beginning;
}

/** Responds to calls without a route, and records them like any call. */
export function serveUnknown(parts: Platform, prefix: string, routes: readonly Route[], rates: Rates): Router {
  const router = Router();
  const known = routes.map(({ operation: { path, method } }) => ({
    method,
    path: new RegExp(`^${path.replace(/\{\w+\.\.\.\}/g, '.+').replace(/\{\w+\}/g, '[^/]+')}/?$`),
  }));
  const operation = {
    id: 'unknown',
    method: 'GET',
    path: `${prefix}/…`,
    caller: { kind: prefix === '/app/v1' ? 'app' : 'anyone', user: 'optional' },
  } as AnyOperation;
  router.use(prefix, async (request, response) => {
    const call = beginCall(parts, { ...operation, method: request.method as 'GET' }, request, response);
    await currentCost.run(call.cost, async () => {
      try {
        await rates.limitAddress(call, parts);
        await identifyKey(call, parts).catch(() => undefined);
        const [path = ''] = request.originalUrl.split('?');
        const asked = `${request.method} ${path}`;
        const methods = known.filter((route) => route.path.test(path)).map(({ method }) => method as string);
        if (methods.length > 0) {
          // RFC 9110 sections 9.3.2 and 10.2.1: HEAD exists wherever GET does; a 405 lists the allowed methods.
          const allowed = [...new Set([...methods, ...(methods.includes('GET') ? ['HEAD'] : [])])].join(', ');
          response.setHeader('Allow', allowed);
          throw new Problem('method-not-allowed', `${asked}: this address allows ${allowed}.`);
        }
        throw new Problem('not-found', `${asked} is not a call of this service. See ${parts.address()}/docs.`);
      } catch (problem) {
        finish(call, parts, answerProblem(call, parts, problem));
      }
    });
  });
  return router;
}

function beginCall(parts: Platform, operation: AnyOperation, request: Request, response: Response): Call {
  const at = parts.now();
  const incoming = readTraceparent(request.headers.traceparent as string | undefined);
  const random = parts.random(34);
  const trace = {
    traceId: incoming?.traceId ?? random.toString('hex', 0, 16),
    spanId: random.toString('hex', 16, 24),
    sampled: incoming?.sampled ?? true,
  };
  const call: Call = {
    id: uuidv7(at, random.subarray(24)),
    operation,
    request,
    response,
    headers: request.headers,
    at,
    startedNs: process.hrtime.bigint(),
    trace,
    parentSpan: incoming?.spanId ?? null,
    cost: { databaseUs: 0, statements: 0, sent: [] },
    spans: [],
    bytes: new AnswerBytes(parts.answers, () => call.holder?.key.id ?? call.member?.id ?? request.ip ?? ''),
    holder: null,
    user: null,
    member: null,
    role: null,
    heldBack: false,
    environment: null,
    problem: null,
    params: undefined as never,
    query: undefined as never,
    body: undefined as never,
  };
  call.cost.read = call.bytes.read;
  call.cost.answer = call.bytes.count;
  response.setHeader('Orchard-Request', call.id);
  response.setHeader('traceparent', writeTraceparent(trace));
  allowReading(request, response);
  return call;
}

async function conduct(call: Call, parts: Platform, before: [name: string, step: Step][], route: Route): Promise<void> {
  try {
    for (const [name, step] of before) {
      const startedNs = process.hrtime.bigint();
      const pending = step(call, parts);
      if (pending) await inSpan(call, name, startedNs, pending);
    }
    // A stream has no length, and a HEAD request would not read it.
    if (call.request.method === 'HEAD' && (call.operation.stream || call.operation.replyTypes))
      return finish(call, parts, end(call, call.operation.status, ''));
    const startedNs = process.hrtime.bigint();
    const answer = await inSpan(call, 'handler', startedNs, handle(route, call, parts));
    if (answer === 'streaming') {
      call.bytes.release();
      // What it answered itself; a stream goes on with 200, and may tell a problem at its end.
      finish(call, parts, { status: call.problem?.status ?? call.response.statusCode, bytes: 0 });
    } else {
      parts.ports.inspectAnswer?.(call, answer.status ?? call.operation.status, answer.body);
      const sendingNs = process.hrtime.bigint();
      const sent = send(call, call.operation.packed ? await packed(call, answer) : answer);
      addSpan(call, 'writing', sendingNs);
      finish(call, parts, sent);
    }
  } catch (error) {
    if (error instanceof MovedAway) await passAway(call, parts, error.to);
    else finish(call, parts, answerProblem(call, parts, error));
  }
}

/** Calls of apps are passed on to where their environment is; members are told. */
function checkPlace({ environment }: Call): void {
  if (environment) demandHere(environment);
}

async function passAway(call: Call, parts: Platform, to: string): Promise<void> {
  const where = call.environment;
  [call.environment, call.holder] = [null, null];
  call.bytes.release();
  try {
    if (call.operation.caller.kind === 'member') throw new Problem('environment-moved', movedWords(where, to));
    // It is recorded where it is answered.
    await passOn(call.request, call.response, to, viaName(parts.secretKey));
  } catch (error) {
    finish(call, parts, answerProblem(call, parts, error));
  }
}

const movedWords = (environment: Call['environment'], to: string): string =>
  `${environment ? `${environment.app}/${environment.name}` : 'The environment'} has moved to ${to}: open it there.`;

const gzip = promisify(gzipWithCallback);
type Sent = { status: number; bytes: number };

/** A smaller one would not become smaller. */
const WORTH_PACKING = 2_000;

/** The answer with gzip as its content coding, where the caller accepts that. Packing is done on another thread. */
async function packed(call: Call, answer: Answer<unknown>): Promise<Answer<unknown>> {
  const content = JSON.stringify(answer.body);
  const headers = { ...answer.headers, 'Content-Type': 'application/json; charset=utf-8', Vary: 'Accept-Encoding, Origin' };
  if (content.length < WORTH_PACKING || !/\bgzip\b(?!\s*;\s*q=0(\.0*)?\s*(,|$))/.test(String(call.headers['accept-encoding'] ?? '')))
    return { ...answer, headers, body: Buffer.from(content) };
  const body = await gzip(content, { level: constants.Z_BEST_SPEED });
  return { ...answer, headers: { ...headers, 'Content-Encoding': 'gzip' }, body };
}

function send(call: Call, answer: Answer<unknown>): Sent {
  const { response } = call;
  const status = answer.status ?? call.operation.status;
  for (const [name, value] of Object.entries(answer.headers ?? {})) response.setHeader(name, value);
  if (status === 204 || status === 304) return end(call, status, '');
  if (!response.hasHeader('content-type')) response.setHeader('content-type', 'application/json; charset=utf-8');
  // The answer of a system behind passes as it came.
  const content = Buffer.isBuffer(answer.body) ? answer.body : JSON.stringify(answer.body);
  call.bytes.count(content.length);
  return end(call, status, content);
}

function end({ request, response, bytes: held }: Call, status: number, content: string | Buffer): Sent {
  const bytes = Buffer.byteLength(content);
  response.statusCode = status;
  if (status !== 204 && status !== 304) response.setHeader('content-length', bytes);
  response.end(content);
  // Otherwise the rest of a refused body would be read as the next call on this connection.
  if (!request.complete) request.unpipe().resume();
  const unread = response.writableFinished ? 0 : (response.socket?.writableLength ?? 0);
  if (unread > 0) held.keep(unread);
  if (held.held === 0 || response.writableFinished || response.destroyed) held.release();
  else response.once('close', () => held.release());
  return { status, bytes };
}

function answerProblem(call: Call, parts: Platform, error: unknown): Sent {
  const problem = toProblem(error, call, parts);
  call.problem = problem;
  if (call.response.headersSent) {
    call.response.destroy();
    call.bytes.release();
    return { status: problem.status, bytes: 0 };
  }
  parts.ports.inspectAnswer?.(call, problem.status, problem);
  if (problem.extras.retryAfterS) call.response.setHeader('Retry-After', problem.extras.retryAfterS);
  // RFC 9110 section 11.6.1: a 401 names the scheme.
  if (problem.status === 401) call.response.setHeader('WWW-Authenticate', 'Bearer realm="orchard"');
  call.response.setHeader('content-type', 'application/problem+json; charset=utf-8');
  return end(call, problem.status, JSON.stringify(withoutSecrets(problem.toDocument(call.id))));
}

/** The error repeats a refused value, unless it was a secret in the wrong place. */
function withoutSecrets(document: ProblemDocument): ProblemDocument {
  const { detail, fields } = document;
  const plain = fields?.map(({ path, problem, expected }) => ({ path: maskSecrets(path), problem: maskSecrets(problem), expected }));
  return { ...document, detail: maskSecrets(detail), ...(plain ? { fields: plain } : {}) };
}

function toProblem(error: unknown, call: Call, parts: Platform): Problem {
  if (error instanceof Problem) return error;
  if (isDatabaseAway(error)) {
    parts.log.warn({ request: call.id, code: (error as { code?: string }).code }, 'the database does not answer');
    return new Problem('database-unavailable', undefined, { retryAfterS: 2 });
  }
  if (isDatabaseFull(error)) {
    parts.log.warn({ request: call.id, operation: call.operation.id, err: error }, 'the disk of the database is full');
    parts.servers.noteFull(parts.now());
    return new Problem('storage-full', 'The disk of the database is full. Nothing was stored.', { retryAfterS: 30 });
  }
  const known = knownFailure(error, call);
  if (known) {
    parts.log.warn({ request: call.id, operation: call.operation.id, err: error }, `a call failed: ${known.problem}`);
    return known;
  }
  parts.log.error({ request: call.id, operation: call.operation.id, err: error }, 'a call failed unexpectedly');
  if (call.environment)
    parts.ports.logEntry(call.environment, {
      level: 'error',
      source: 'service',
      text: `A call failed unexpectedly: ${(error as Error).message}`,
      fields: { request: call.id, operation: call.operation.id },
      trace: call.trace.traceId,
    });
  return new Problem('unexpected');
}

/** What a database error means if no handler knows better: mostly a concurrent change. */
function knownFailure(error: unknown, { environment }: Call): Problem | null {
  if (isTooSlow(error)) return new Problem('statement-too-slow', undefined, { retryAfterS: 10 });
  if (isDeadlock(error)) return new Problem('busy', undefined, { retryAfterS: 1 });
  if (heldByMove(error)) return new Problem('busy', 'The environment is being moved. Send it again.', { retryAfterS: 2 });
  if (isDuplicate(error))
    return new Problem('already-exists', 'Somebody else created the same thing at the same moment. Read it and change that one.');
  if (isReferenceError(error)) return new Problem('not-found', 'Its parent was deleted at the same moment. Nothing was stored.');
  if (isBrokenCheck(error))
    return new Problem(
      'invalid-input',
      'A value cannot be stored: it is too long, or it is JSON that the database rejects. Nothing was stored.',
    );
  if (environment && isGone(error))
    return new Problem(
      'not-found',
      `It was deleted at the same moment, or all of ${environment.app}/${environment.name} is being deleted.`,
    );
  return null;
}

/** Records the call once its response is written. */
function finish(call: Call, parts: Platform, sent: Sent): void {
  parts.ports.recordCall(call, sent.status, Number(process.hrtime.bigint() - call.startedNs) / 1000, sent.bytes);
}
