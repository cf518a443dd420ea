/** Calls that the service makes itself, without HTTP: on behalf of a member who reads, or of a function of the team. */
import { type AnyOperation, Problem, SCOPES } from '@orchard/contract';
import { roleReaches } from '../access/memberDirectory.js';
import type { Call, Environment, Route } from '../call.js';
import type { Platform } from '../platform.js';
import type { Ports, ReadInput } from '../ports.js';
import { handle } from '../audit/auditedCall.js';
import { AnswerBytes } from './answerBytes.js';
import { validate } from './validate.js';

type Caller = Pick<Call, 'holder' | 'member' | 'role'>;

/** Makes calls of the routes that are served. */
class InternalCalls {
  readonly #byId: ReadonlyMap<string, Route>;

  constructor(
    private readonly parts: Platform,
    routes: readonly Route[],
  ) {
    this.#byId = new Map(routes.map((route) => [route.operation.id, route]));
  }

  async make(operation: AnyOperation, caller: Caller, environment: Environment | null, input: ReadInput, trace?: string): Promise<unknown> {
    const route = this.#byId.get(operation.id);
    if (!route) throw new Error(`${operation.id} is not served`);
    const call = this.#callOf(operation, caller, environment, input, trace);
    validate(call);
    await this.parts.actors.refresh();
    const answer = await handle(route, call, this.parts);
    if (answer === 'streaming') throw new Error(`${operation.id} answers with a stream`);
    return answer.body;
  }

  #callOf(
    operation: AnyOperation,
    caller: Caller,
    environment: Environment | null,
    { params = {}, query = {}, body }: ReadInput,
    trace = this.parts.random(16).toString('hex'),
  ): Call {
    const place = environment && operation.path.includes('{environment}') ? { app: environment.app, environment: environment.name } : {};
    const request = { params: { ...place, ...params }, query, body, originalUrl: operation.path, headers: {}, ip: '' };
    return {
      id: this.parts.newId(),
      operation,
      request,
      response: { setHeader: () => undefined, appendHeader: () => undefined, once: () => undefined },
      headers: {},
      at: this.parts.now(),
      startedNs: process.hrtime.bigint(),
      trace: { traceId: trace, spanId: this.parts.random(8).toString('hex'), sampled: true },
      cost: { databaseUs: 0, statements: 0, sent: [] },
      spans: [],
      bytes: new AnswerBytes(this.parts.answers, () => caller.member?.id ?? caller.holder?.key.id ?? ''),
      user: null,
      heldBack: false,
      environment,
      problem: null,
      ...caller,
    } as unknown as Call;
  }
}

/** @param routes all that are served */
export function internalCallsOf(parts: Platform, routes: readonly Route[]): Pick<Ports, 'readAs' | 'callAs' | 'callAsFunction'> {
  const calls = new InternalCalls(parts, routes);
  return {
    readAs: async (operation, { member, role }, environment, input) => {
      const { caller, method, changes } = operation;
      // A question can be too long for an address; it changes nothing.
      const isReading = method === 'GET' || changes === 'nothing';
      if (!isReading || caller.kind !== 'member') throw new Error(`${operation.id} is no reading call of members`);
      if (!roleReaches(role, caller.role))
        throw new Problem('role-insufficient', `This needs the role ${caller.role}; the reader's is ${role}.`);
      return calls.make(operation, { member, role, holder: null }, environment, input) as never;
    },
    callAs: (operation, { member, role }, environment, input) =>
      calls.make(operation, { member, role, holder: null }, environment, input) as never,
    callAsFunction: (operation, name, environment, input, trace) => {
      const holder = {
        environment,
        client: { name: 'functions', kind: 'server', origins: [] },
        key: { id: `function:${name}`, kind: 'server' as const, name, scopes: SCOPES },
        functionName: name,
      };
      return calls.make(operation, { holder, member: null, role: null }, environment, input, trace) as never;
    },
  };
}
