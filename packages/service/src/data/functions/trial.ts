/** Trials of functions: the version in force or a draft, as a server or as a user. */
import { type operations, Problem } from '@orchard/contract';
import type { Json, JsonObject } from '@orchard/core';
import { type bind, environmentOf } from '../../platform/call.js';
import { asUser } from '../records/asUser.js';
import { THE_SERVICE_ITSELF } from '../records/author.js';
import { inForce } from './directory.js';
import { callerOf, type Ground, named } from './ground.js';
import { functionAuthor } from './authors.js';
import type { Parts } from './parts.js';
import { responseOf } from './response.js';
import { buildFiles, filesOf } from './saving.js';
import { secretOf } from './secrets.js';
import type { FunctionRow } from './rows.js';

type TryCall = Parameters<Parameters<typeof bind<typeof operations.functions.try>>[1]>[0];

/** Runs a function on a made-up request, and undoes what it writes. @throws {Problem} not-found, function-refused */
export async function tryFunction(parts: Parts, ground: Ground, call: TryCall) {
  const environment = environmentOf(call);
  const { user } = call.body;
  const row = await named(ground, environment, call.params.name);
  const draft = filesOf(call.body);
  const version = draft ? null : await ground.store.version(environment, row.name, row.version);
  if (!draft && !version) throw new Problem('not-found', `No version of ${row.name} is in force. Send a draft as source or files.`);
  const files = draft
    ? await buildFiles(parts, ground, environment, draft, row.kind)
    : (JSON.parse(version?.built as string) as Record<string, string>);
  const author = user ? await asUser(environment, user) : THE_SERVICE_ITSELF;
  const known = inForce(row, row.version, files);
  const joining = known.on && known.on.moment !== 'after' ? { relies: [], joined: [], isApart: !known.on.collection } : undefined;
  const report = await ground.running.try({
    environment,
    name: row.name,
    program: known.program,
    author: functionAuthor(row, author, 1),
    userId: author.userId,
    hosts: known.hosts,
    secret: secretOf(ground, environment),
    ...(joining ? { joining } : {}),
    argument: { ...argumentOf(parts, row, call.body), ...(row.kind === 'schedule' ? {} : { caller: callerOf(author) }) },
  });
  const { outcome, answer, error } =
    row.kind === 'endpoint' ? responseOf(report) : { ...report, answer: report.refusal ?? report.value ?? null };
  const { log, calls, changes } = report;
  return { outcome, answer, error, log, calls, changes, durationMs: report.durationUs / 1000, cpuMs: report.cpuUs / 1000 };
}

/** What its handler is called with, made up where the trial leaves it out. */
function argumentOf(parts: Parts, { kind, path }: FunctionRow, { request, event = {} }: TryCall['body']): JsonObject {
  const key = parts.newId();
  if (kind === 'endpoint') return { ...request, body: (request.body ?? null) as Json, path };
  if (kind === 'schedule') return { due: new Date(parts.now()).toISOString(), key, attempt: 1, ...event };
  const { record = null } = event;
  return { id: null, before: null, record, sent: record, value: record, query: {}, items: [], depth: 0, key, attempt: 1, ...event };
}
