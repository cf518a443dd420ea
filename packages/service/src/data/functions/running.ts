/** Runs functions: for a call of an endpoint, which is recorded, and for a trial, which is undone. */
import { type FunctionRun, Problem } from '@orchard/contract';
import type { Json, JsonObject } from '@orchard/core';
import type { Statements } from '../../platform/database/connection.js';
import type { Environment } from '../../platform/call.js';
import type { Author } from '../records/author.js';
import type { Fetching } from './fetching.js';
import type { Parts } from './parts.js';
import { type MadeCall, Reach } from './reach.js';
import type { Program, RunResult } from './sandbox/messages.js';
import type { Sandboxes } from './sandbox/thread.js';

export type Answered = { status: number; headers: Record<string, string>; body: Json };
export type RunReport = {
  outcome: FunctionRun['outcome'];
  answer: Answered | null;
  error: string | null;
  durationUs: number;
  cpuUs: number;
  log: RunResult['log'];
  calls: MadeCall[];
  changes: JsonObject[];
};
export type RunOrder = {
  environment: Environment;
  program: Program;
  request: JsonObject;
  author: Author;
  hosts: readonly string[];
  secret: (name: string) => Promise<string>;
};
/** Ends the transaction of a trial with its report. */
class Undo extends Error {
  constructor(readonly report: RunReport) {
    super('A trial is undone.');
  }
}

export class Running {
  constructor(
    private readonly parts: Parts,
    private readonly sandboxes: Sandboxes,
    private readonly fetching: Fetching,
  ) {}

  async run({ environment, program, request, ...at }: RunOrder, on?: Statements): Promise<RunReport> {
    const used: string[] = [];
    const secret = async (name: string) => {
      const value = await at.secret(name);
      used.push(value);
      return value;
    };
    const reach = new Reach(this.parts, this.fetching, { environment, ...at, secret, ...(on ? { on } : {}) });
    const started = process.hrtime.bigint();
    const result = await this.sandboxes.run(environment.id, program, JSON.stringify(request), (name, json) => reach.answer(name, json));
    const durationUs = Number(process.hrtime.bigint() - started) / 1000;
    const masked = masking(used);
    const log = result.log.map(({ level, text }) => ({ level, text: masked(text) }));
    const shared = {
      durationUs,
      cpuUs: result.cpuUs,
      log,
      calls: reach.calls.map((made) => ({ ...made, about: masked(made.about) })),
      changes: reach.changes,
    };
    if ('failure' in result)
      return {
        ...shared,
        outcome: result.failure.reason === 'error' ? 'failed' : 'stopped',
        answer: null,
        error: masked(result.failure.text),
      };
    const { refusal, value } = result.answer as { refusal?: { text: string; status?: unknown; field?: string }; value?: Json };
    if (refusal) return { ...shared, outcome: 'refused', answer: refusedAnswer(refusal), error: masked(refusal.text) };
    return { ...shared, ...answerOf(value) };
  }

  /** Runs, shows what would be written, and undoes it. */
  async try(order: RunOrder): Promise<RunReport> {
    try {
      await order.environment.db.transaction(async (on) => {
        throw new Undo(await this.run(order, on));
      });
    } catch (error) {
      if (error instanceof Undo) return error.report;
      throw error;
    }
    throw new Error('a trial was not undone');
  }
}

/** Values of secrets that a run was given never reach what is kept of it. */
function masking(values: readonly string[]): (text: string) => string {
  return (text) => values.filter((value) => value.length >= 4).reduce((shown, value) => shown.replaceAll(value, '•••'), text);
}

function refusedAnswer({ text, status, field }: { text: string; status?: unknown; field?: string }): Answered {
  const code = typeof status === 'number' && status >= 400 && status < 500 ? status : 422;
  const body = {
    type: 'about:blank',
    title: text,
    status: code,
    detail: text,
    ...(field ? { fields: [{ path: `body.${field}`, problem: text, expected: 'another value' }] } : {}),
  };
  return { status: code, headers: { 'content-type': 'application/problem+json' }, body: body as Json };
}

/** Headers that an endpoint may answer; the others belong to the service. */
const OWN_HEADER = /^(content-language|cache-control|etag|expires|last-modified|link|location|retry-after|vary|x-[a-z0-9-]+)$/i;

/** `{ status?, headers?, body }`, or nothing. */
function answerOf(value: Json | undefined): Pick<RunReport, 'outcome' | 'answer' | 'error'> {
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

/** The response of a run, or the problem that it ended with. @throws {Problem} function-failed, function-stopped */
export function demandAnswer(name: string, { outcome, answer, error }: RunReport): Answered {
  if (answer) return answer;
  const kind = outcome === 'stopped' ? 'function-stopped' : 'function-failed';
  throw new Problem(kind, `The function ${name} ${outcome === 'stopped' ? 'was stopped at a limit' : 'failed'}.`, {
    teamDetail: `The function ${name}: ${error}`,
  });
}
