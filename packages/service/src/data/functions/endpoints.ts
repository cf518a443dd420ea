import { operations, Problem } from '@orchard/contract';
import type { Json, JsonObject } from '@orchard/core';
import { bind, type Call, environmentOf, type Route } from '../../platform/call.js';
import { authorOf } from '../records/author.js';
import type { InForce } from './directory.js';
import { callerOf, type Ground } from './ground.js';
import { demandInput } from './jsonSchema.js';
import type { Parts } from './parts.js';
import { demandResponse, responseOf } from './response.js';
import { runFunction } from './runFunction.js';

/** Calls of apps and servers to endpoints: one operation for each method. */
export function endpointRoutes(parts: Parts, ground: Ground): Route[] {
  const own = operations.endpoints;
  const answer = async (call: Call & { params: { path: string }; query: object; body?: unknown }) => {
    const environment = environmentOf(call);
    const { method } = call.operation;
    const there = await ground.directory.at(environment, call.params.path);
    const found = there.find(({ endpoint }) => endpoint.methods.includes(method));
    if (!found) {
      if (there.length === 0)
        throw new Problem('not-found', `There is no endpoint ${call.params.path} in ${environment.app}/${environment.name}.`);
      call.response.setHeader('Allow', [...new Set(there.flatMap(({ endpoint }) => endpoint.methods))].join(', '));
      throw new Problem('method-not-allowed', `The endpoint ${call.params.path} does not answer ${method}.`);
    }
    demandCaller(call, found.endpoint);
    const { row, input } = found.endpoint;
    call.target = row.name;
    if (input) demandInput(input, call.body);
    const author = authorOf(call);
    const { path } = call.params;
    const event: JsonObject = {
      method,
      path,
      params: found.params,
      query: { ...call.query } as JsonObject,
      body: (call.body ?? null) as Json,
    };
    const { end } = await runFunction(
      parts,
      ground,
      environment,
      found.endpoint,
      { id: call.id, author, depth: 0, cause: `${method} ${path}`, argument: { ...event, caller: callerOf(author) }, event },
      (report) => {
        const responded = responseOf(report);
        return { ...report, ...responded, status: responded.answer?.status ?? null };
      },
    );
    const { status, headers, body } = demandResponse(row.name, end);
    return { body, status, headers };
  };
  return Object.values(own).map((operation) => bind(operation as typeof own.get, answer as never));
}

/** @throws {Problem} access-refused */
function demandCaller({ holder, user }: Pick<Call, 'holder' | 'user'>, { row }: InForce): void {
  const isServer = holder?.key.kind === 'server';
  if (isServer || row.callers === 'anyone' || (row.callers === 'signed-in' && user)) return;
  throw new Problem(
    'access-refused',
    row.callers === 'servers'
      ? `The endpoint ${row.path} is for server keys alone.`
      : `The endpoint ${row.path} is for signed-in users: send the access token of one.`,
  );
}
