/** Trials of functions: the version in force or a draft, as a server or as a user. */
import { type operations, Problem } from '@orchard/contract';
import type { Json } from '@orchard/core';
import { type bind, environmentOf } from '../../platform/call.js';
import { asUser } from '../records/asUser.js';
import { THE_SERVICE_ITSELF } from '../records/author.js';
import { inForce } from './directory.js';
import { callerOf, type Ground, named } from './ground.js';
import type { Parts } from './parts.js';
import { filesOf } from './saving.js';
import { secretOf } from './secrets.js';

type TryCall = Parameters<Parameters<typeof bind<typeof operations.functions.try>>[1]>[0];

/** Runs a function on a made-up request, and undoes what it writes. @throws {Problem} not-found, function-refused */
export async function tryFunction(parts: Parts, ground: Ground, call: TryCall) {
  const environment = environmentOf(call);
  const { request, user } = call.body;
  const row = await named(ground, environment, call.params.name);
  const draft = filesOf(call.body);
  const version = draft ? null : await ground.store.version(environment, row.name, row.version);
  if (!draft && !version) throw new Problem('not-found', `No version of ${row.name} is in force. Send a draft as source or files.`);
  const files = draft
    ? await ground.checker.build(draft, await parts.catalogue.all(environment))
    : (JSON.parse(version?.built as string) as Record<string, string>);
  const author = user ? await asUser(environment, user) : THE_SERVICE_ITSELF;
  const endpoint = inForce(row, files);
  const report = await ground.running.try({
    environment,
    program: endpoint.program,
    author: row.rights === 'own' ? THE_SERVICE_ITSELF : author,
    hosts: endpoint.hosts,
    secret: secretOf(ground, environment),
    request: { ...request, body: (request.body ?? null) as Json, path: row.path, caller: callerOf(user ? 'user' : 'server', author) },
  });
  const { outcome, answer, error, log, calls, changes } = report;
  return { outcome, answer, error, log, calls, changes, durationMs: report.durationUs / 1000, cpuMs: report.cpuUs / 1000 };
}
