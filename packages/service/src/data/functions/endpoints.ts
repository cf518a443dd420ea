import { operations, Problem } from '@orchard/contract';
import type { Json, JsonObject } from '@orchard/core';
import { bind, type Call, environmentOf, type Route } from '../../platform/call.js';
import { authorOf, THE_SERVICE_ITSELF } from '../records/author.js';
import type { InForce } from './directory.js';
import { callerOf, type Ground } from './ground.js';
import { demandAnswer } from './running.js';
import { secretOf } from './secrets.js';

/** Calls of apps and servers to endpoints: one operation for each method. */
export function endpointRoutes(ground: Ground): Route[] {
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
    const author = authorOf(call);
    const kind = call.holder?.key.kind === 'server' ? 'server' : call.user ? 'user' : 'client';
    const { row, program, hosts } = found.endpoint;
    const report = await ground.running.run({
      environment,
      program,
      hosts,
      author: row.rights === 'own' ? THE_SERVICE_ITSELF : author,
      secret: secretOf(ground, environment),
      request: {
        method,
        path: call.params.path,
        params: found.params,
        query: { ...call.query } as JsonObject,
        body: (call.body ?? null) as Json,
        caller: callerOf(kind, author),
      },
    });
    ground.runLog.add(call, row, report);
    const { status, headers, body } = demandAnswer(row.name, report);
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
