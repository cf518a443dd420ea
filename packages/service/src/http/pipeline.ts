/** The way of every call, from receiving it to recording it. */
import { type AnyOperation, Problem } from '@orchard/contract';
import { readTraceparent, uuidv7, writeTraceparent } from '@orchard/core';
import { type Request, type Response, Router } from 'express';
import { checkOrigin, checkRights, identifyKey, identifyMember, identifyUser, type Rates } from '../access/steps.js';
import { currentCost, isDatabaseAway } from '../database/connection.js';
import type { Parts } from '../parts.js';
import type { Answer, Call, Route } from './call.js';
import { allowReading } from './crossOrigin.js';
import { readBody, validate } from './validate.js';

type Step = (call: Call, parts: Parts) => Promise<void> | void;

/** What happens before the handler, in this order. */
const steps = (rates: Rates): Step[] => [
  (call) => rates.limitAddress(call),
  identifyKey,
  checkOrigin,
  checkRights,
  identifyUser,
  identifyMember,
  (call) => rates.limitKey(call),
  readBody,
  validate,
];

/** A router that serves the given routes. */
export function serveRoutes(parts: Parts, routes: Route[], rates: Rates): Router {
  const router = Router({ caseSensitive: true });
  const before = steps(rates);
  for (const route of routes) {
    const path = route.operation.path.replace(/\{(\w+)\}/g, ':$1');
    const method = route.operation.method.toLowerCase() as 'get' | 'post' | 'put' | 'patch' | 'delete';
    router[method](path, (request, response) => {
      const call = beginCall(parts, route.operation, request, response);
      return currentCost.run(call.cost, () => conduct(call, parts, before, route));
    });
  }
  return router;
}

/** Answers what no route takes, and records it like any call. */
export function serveUnknown(parts: Parts, prefix: string, rates: Rates): Router {
  const router = Router();
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
        await rates.limitAddress(call);
        await identifyKey(call, parts).catch(() => undefined);
        const asked = `${request.method} ${request.originalUrl.split('?')[0]}`;
        throw new Problem('not-found', `${asked} is not a call of this service. See ${parts.address()}/docs.`);
      } catch (problem) {
        finish(call, parts, answerProblem(call, parts, problem));
      }
    });
  });
  return router;
}

function beginCall(parts: Parts, operation: AnyOperation, request: Request, response: Response): Call {
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
    cost: { databaseUs: 0, statements: 0 },
    holder: null,
    user: null,
    member: null,
    role: null,
    environment: null,
    problem: null,
    params: undefined as never,
    query: undefined as never,
    body: undefined as never,
  };
  response.setHeader('Orchard-Request', call.id);
  response.setHeader('traceparent', writeTraceparent(trace));
  allowReading(request, response);
  return call;
}

async function conduct(call: Call, parts: Parts, before: Step[], route: Route): Promise<void> {
  try {
    for (const step of before) {
      const pending = step(call, parts);
      if (pending) await pending;
    }
    const answer = await route.handle(call);
    if (answer === 'streaming') finish(call, parts, { status: 200, bytes: 0 });
    else finish(call, parts, send(call, answer));
  } catch (error) {
    finish(call, parts, answerProblem(call, parts, error));
  }
}

type Sent = { status: number; bytes: number };

function send(call: Call, answer: Answer<unknown>): Sent {
  const { response } = call;
  const status = answer.status ?? call.operation.status;
  for (const [name, value] of Object.entries(answer.headers ?? {})) response.setHeader(name, value);
  if (status === 204 || status === 304) return end(response, status, '');
  if (!response.hasHeader('content-type')) response.setHeader('content-type', 'application/json; charset=utf-8');
  return end(response, status, JSON.stringify(answer.body));
}

function end(response: Response, status: number, text: string): Sent {
  const bytes = Buffer.byteLength(text);
  response.statusCode = status;
  if (status !== 204 && status !== 304) response.setHeader('content-length', bytes);
  response.end(text);
  return { status, bytes };
}

function answerProblem(call: Call, parts: Parts, error: unknown): Sent {
  const problem = toProblem(error, call, parts);
  call.problem = problem;
  if (call.response.headersSent) {
    call.response.destroy();
    return { status: problem.status, bytes: 0 };
  }
  if (problem.extras.retryAfterS) call.response.setHeader('Retry-After', problem.extras.retryAfterS);
  // RFC 9110 section 11.6.1: a 401 names the scheme.
  if (problem.status === 401) call.response.setHeader('WWW-Authenticate', 'Bearer realm="orchard"');
  call.response.setHeader('content-type', 'application/problem+json; charset=utf-8');
  return end(call.response, problem.status, JSON.stringify(problem.toDocument(call.id)));
}

function toProblem(error: unknown, call: Call, parts: Parts): Problem {
  if (error instanceof Problem) return error;
  if (isDatabaseAway(error)) {
    parts.log.warn({ request: call.id, code: (error as { code?: string }).code }, 'the database does not answer');
    return new Problem('database-unavailable', undefined, { retryAfterS: 2 });
  }
  parts.log.error({ request: call.id, operation: call.operation.id, err: error }, 'a call failed unexpectedly');
  return new Problem('unexpected');
}

/** Records the call, once its answer is written. */
function finish(call: Call, parts: Parts, sent: Sent): void {
  parts.recorder.record(call, sent.status, Number(process.hrtime.bigint() - call.startedNs) / 1000, sent.bytes);
}
