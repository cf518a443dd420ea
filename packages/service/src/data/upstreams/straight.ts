/** Operations of upstreams that apps call straight through: by the app's own key and token, without the system's credentials. */
import { operations, Problem, type UpstreamOperation } from '@orchard/contract';
import {
  compileEvaluator,
  fillTemplate,
  type FilterScope,
  type Json,
  type JsonObject,
  matchPath,
  readFilter,
  type ValueKind,
} from '@orchard/core';
import {
  type Answer as Reply,
  bind,
  type Call,
  type Environment,
  environmentOf,
  type Route,
  refusedBy,
  refusedOf,
} from '../../platform/call.js';
import { readingFilter } from '../../platform/database/listing.js';
import type { UpstreamConnection } from './calling.js';
import type { UpstreamDirectory } from './directory.js';
import type { Answer } from './order.js';
import type { Parts } from './parts.js';

/** Headers about content and caches, which mean the same to whoever is behind. */
const REQUEST_HEADERS = ['accept', 'accept-language', 'content-type', 'if-none-match', 'if-modified-since'];
const ANSWER_HEADERS = [
  'age',
  'cache-control',
  'content-language',
  'content-type',
  'etag',
  'expires',
  'last-modified',
  'retry-after',
  'vary',
];
type StraightCall = Call & { params: { upstream: string; path: string }; query: Record<string, string> };

export function straightRoutes(parts: Parts, directory: UpstreamDirectory): Route[] {
  const own = operations.upstreamCalls;
  const rules = new CallerRules(parts);
  const answer = async (call: StraightCall): Promise<Reply<unknown>> => {
    const environment = environmentOf(call);
    const { upstream: name, path } = call.params;
    const upstream = await directory.find(environment, name);
    if (!upstream) throw new Problem('not-found', `There is no upstream ${name} in ${environment.app}/${environment.name}.`);
    const { operation, names } = chosen(upstream, call, `/${path}`);
    await rules.demand(environment, call, upstream, operation);
    const received = await upstream.call({
      method: operation.method,
      // It came decoded; what stands in it stays in its part.
      path: `/${path.split('/').map(encodeURIComponent).join('/')}`,
      query: call.query,
      headers: only(call.headers, [...REQUEST_HEADERS, ...lowerCased(upstream.definition.pass.request)]),
      body: call.body,
      userId: call.user?.id ?? null,
      trace: call.trace.traceId,
    });
    return reply(upstream, operation, received, names, call.query);
  };
  return Object.values(own).map((operation) => bind(operation as typeof own.get, answer as never));
}

/** The operation at a path. @throws {Problem} not-found, method-not-allowed */
function chosen(
  { definition, row }: UpstreamConnection,
  call: StraightCall,
  path: string,
): { operation: UpstreamOperation; names: Record<string, string> } {
  const { method } = call.operation;
  const open = definition.operations.filter(({ callers }) => callers !== 'nobody');
  const there = open.flatMap((operation) => {
    const names = matchPath(operation.path, path);
    return names ? [{ operation, names }] : [];
  });
  const found = there.find(({ operation }) => operation.method === method);
  if (found) return found;
  if (there.length === 0)
    throw new Problem(
      'not-found',
      `The upstream ${row.name} has no operation for ${path} that apps may call. The team chooses which are open.`,
    );
  call.response.setHeader('Allow', [...new Set(there.map(({ operation }) => operation.method))].join(', '));
  throw new Problem('method-not-allowed', `${path} of the upstream ${row.name} does not take ${method}.`);
}

function reply(
  { definition, row }: UpstreamConnection,
  { take, name }: UpstreamOperation,
  received: Answer,
  names: Record<string, string>,
  query: JsonObject,
): Reply<unknown> {
  const headers = only(received.headers, [...ANSWER_HEADERS, ...lowerCased(definition.pass.answer)]);
  headers['cache-status'] = `orchard; ${received.cached ? 'hit' : 'fwd=miss'}`;
  if (!take || received.status >= 300) return { status: received.status, headers, body: received.body };
  try {
    const answer = JSON.parse(received.body.toString()) as Json;
    const body = fillTemplate(take as Json, { answer, params: names, query });
    return { status: received.status, headers: { ...headers, 'content-type': 'application/json; charset=utf-8' }, body };
  } catch (error) {
    throw new Problem('upstream-failed', `${row.name} did not answer as it should.`, {
      teamDetail: `The answer of ${row.name} to ${name} cannot be mapped: ${(error as Error).message}`,
    });
  }
}

const lowerCased = (names: readonly string[]): string[] => names.map((name) => name.toLowerCase());

function only(headers: Record<string, unknown>, names: readonly string[]): Record<string, string> {
  return Object.fromEntries(names.flatMap((name) => (typeof headers[name] === 'string' ? [[name, headers[name] as string]] : [])));
}

/** Conditions over the user who calls. */
export const callerScope = (me: ReadonlyMap<string, ValueKind>): FilterScope => ({ me, kindOf: () => null, names: () => [] });

/** Who may call which operation. */
class CallerRules {
  readonly #compiled = new Map<string, ReturnType<typeof compileEvaluator>>();

  constructor(private readonly parts: Parts) {}

  /** @throws {Problem} access-refused */
  async demand(environment: Environment, call: StraightCall, { row }: UpstreamConnection, operation: UpstreamOperation): Promise<void> {
    if (call.holder?.key.kind === 'server') return;
    const what = `The operation ${operation.name} of the upstream ${row.name}`;
    if (operation.callers === 'servers') throw new Problem('access-refused', `${what} is for server keys alone.`);
    if (operation.callers === 'signed-in' && !call.user)
      throw new Problem('access-refused', `${what} is for signed-in users: send the access token of one.`);
    if (!operation.rule || (await this.#holds(environment, operation.rule, call))) return;
    const full = `The rule of ${operation.name} of ${row.name} refuses this: ${operation.rule}`;
    throw refusedBy(refusedOf(call), what, full);
  }

  async #holds(environment: Environment, rule: string, { user }: StraightCall): Promise<boolean> {
    const fields = await this.parts.ports.userFields(environment);
    const key = `${[...fields].join()} ${rule}`;
    let evaluate = this.#compiled.get(key);
    if (!evaluate) {
      evaluate = compileEvaluator(readingFilter(() => readFilter(rule, callerScope(fields))));
      if (this.#compiled.size > 1_000) this.#compiled.clear();
      this.#compiled.set(key, evaluate);
    }
    const me = { id: user?.id ?? null, roles: user?.roles ?? [], fields: user?.fields ?? {} };
    return evaluate({}, { me, now: this.parts.now() }) === true;
  }
}
