/** The response of an endpoint, from what its handler returned. */
import { type FunctionRun, Problem } from '@orchard/contract';
import type { Json, JsonObject } from '@orchard/core';
import type { Refusal, RunReport } from './running.js';

export type Answered = { status: number; headers: Record<string, string>; body: Json };
export type Responded = { outcome: FunctionRun['outcome']; answer: Answered | null; error: string | null };

export function responseOf({ outcome, value, refusal, error }: RunReport): Responded {
  if (refusal) return { outcome, answer: refusedAnswer(refusal), error };
  return outcome === 'answered' ? answerOf(value) : { outcome, answer: null, error };
}

function refusedAnswer({ text, status, field }: Refusal): Answered {
  const code = statusOf(status);
  const body = {
    type: 'about:blank',
    title: text,
    status: code,
    detail: text,
    ...(field ? { fields: [{ path: `body.${field}`, problem: text, expected: 'another value' }] } : {}),
  };
  return { status: code, headers: { 'content-type': 'application/problem+json' }, body: body as Json };
}

const statusOf = (status: unknown): number =>
  typeof status === 'number' && Number.isInteger(status) && status >= 400 && status < 500 ? status : 422;

/** Headers that an endpoint may answer; the others belong to the service. */
const OWN_HEADER = /^(content-language|cache-control|etag|expires|last-modified|link|location|retry-after|vary|x-[a-z0-9-]+)$/i;

/** `{ status?, headers?, body }`, or nothing. */
function answerOf(value: Json | undefined): Responded {
  if (value === undefined || value === null) return { outcome: 'answered', answer: { status: 204, headers: {}, body: null }, error: null };
  const { status = 200, headers = {}, body = null } = (typeof value === 'object' && !Array.isArray(value) ? value : {}) as JsonObject;
  const failed = (error: string) => ({ outcome: 'failed' as const, answer: null, error });
  if (typeof value !== 'object' || Array.isArray(value) || !('body' in value || 'status' in value))
    return failed('It answered something that is no response: return { status?, headers?, body }.');
  if (typeof status !== 'number' || !Number.isInteger(status) || status < 200 || status > 599)
    return failed(`Its status ${JSON.stringify(status)} is none from 200 to 599.`);
  if (typeof headers !== 'object' || headers === null || Array.isArray(headers)) return failed('Its headers are no object of texts.');
  const named = Object.entries(headers);
  const other = named.find(([name, text]) => !OWN_HEADER.test(name) || typeof text !== 'string' || /[\r\n]/.test(text));
  if (other) return failed(`It may not answer the header ${other[0]}.`);
  return {
    outcome: 'answered',
    answer: { status, headers: Object.fromEntries(named) as Record<string, string>, body: body as Json },
    error: null,
  };
}

/** The response, or the problem that the run ended with. @throws {Problem} function-failed, function-stopped */
export function demandResponse(name: string, { outcome, answer, error }: Responded): Answered {
  if (answer) return answer;
  throw runProblem(name, outcome, error);
}

/** What a caller is told of a run that did not end well. */
export function runProblem(name: string, outcome: FunctionRun['outcome'], error: string | null): Problem {
  const isStopped = outcome === 'stopped';
  return new Problem(
    isStopped ? 'function-stopped' : 'function-failed',
    `The function ${name} ${isStopped ? 'was stopped at a limit' : 'failed'}.`,
    {
      teamDetail: `The function ${name}: ${error}`,
    },
  );
}

/** A refusal in the words of the team. */
export function refusalProblem({ text, status, field }: Refusal): Problem {
  return new Problem('refused-by-function', text, {
    status: statusOf(status),
    ...(field ? { fields: [{ path: `body.${field}`, problem: text, expected: 'another value' }] } : {}),
  });
}
