import { type FunctionShown, type NewFunctionVersion, operations, Problem } from '@orchard/contract';
import { type Json, type JsonObject, THE_SERVICE, writeActor } from '@orchard/core';
import { seal, unseal } from '../../platform/access/secrets.js';
import { orNone } from '../../platform/audit/audit.js';
import { authorOf as actorOf, bind, type Call, type Environment, environmentOf, type Naming, type Route } from '../../platform/call.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { fieldsForRules } from '../../people/users/fields.js';
import { UserStore } from '../../people/users/store.js';
import { type Author, authorOf } from '../records/author.js';
import type { Checker } from './checking.js';
import { type FunctionDirectory, inForce, type InForce } from './directory.js';
import type { Parts } from './parts.js';
import { demandAnswer, type RunReport, type Running } from './running.js';
import type { FunctionRow, SecretRow } from './store.js';

/** Each is looked at when an endpoint is called. */
const MOST = 200;
const MOST_SECRETS = 200;
const OWN_RIGHTS: Author = { userId: null, roles: [], fields: {}, trusted: true, told: true, by: writeActor(THE_SERVICE) };
const secretContext = ({ id }: Environment, name: string) => `${id}:secret:${name}`;

export type Ground = { directory: FunctionDirectory; checker: Checker; running: Running };

/** @throws {Problem} not-found */
async function named({ directory }: Ground, environment: Environment, name: string): Promise<FunctionRow> {
  const row = await directory.store.find(environment, name);
  if (!row) throw new Problem('not-found', `There is no function ${name} in ${environment.app}/${environment.name}.`);
  return row;
}

const filesOf = ({ source, files }: Pick<NewFunctionVersion, 'source' | 'files'>): Record<string, string> | null =>
  files ?? (source === undefined ? null : { 'main.ts': source });

/** A value of a secret, for a run. @throws Error in words for the function */
const secretOf =
  ({ directory }: Ground, environment: Environment) =>
  async (name: string) => {
    const row = (await directory.store.secrets(environment)).find((one) => one.name === name);
    if (!row) throw new Error(`There is no secret ${name} in this environment.`);
    return unseal(environment.keys.data, secretContext(environment, name), row.sealed).toString();
  };

/** Saves a version. @throws {Problem} function-refused, already-exists, wrong-state, invalid-input */
async function saveVersion(
  parts: Parts,
  ground: Ground,
  environment: Environment,
  name: string,
  body: NewFunctionVersion,
  by: string,
): Promise<{ row: FunctionRow; isNew: boolean }> {
  const { store } = ground.directory;
  const { kind, path, methods, callers, rights, hosts, use } = body;
  const files = filesOf(body);
  if (!files)
    throw new Problem('invalid-input', 'There is no code.', {
      fields: [{ path: 'body.source', problem: 'It is missing.', expected: 'source, or files' }],
    });
  const all = await store.list(environment);
  const before = all.find((one) => one.name === name) ?? null;
  const pattern = (one: string) => one.replace(/\{\w+\}/g, '{}');
  const twin = all.find(
    (one) =>
      one.name !== name &&
      pattern(one.path) === pattern(path) &&
      (storedJson(one.methods as never) as unknown as string[]).some((method) => methods.includes(method as never)),
  );
  if (twin) throw new Problem('already-exists', `The function ${twin.name} answers at ${path} already.`);
  if (!before && all.length >= MOST)
    throw new Problem('wrong-state', `There are ${MOST} functions here already. Delete one that is no longer needed.`);
  const built = await ground.checker.build(files, await parts.catalogue.all(environment));
  const now = new Date(parts.now());
  const version = (await store.latestVersion(environment, name)) + 1;
  const row: FunctionRow = {
    name,
    kind,
    path,
    methods,
    callers,
    rights,
    hosts,
    version: use ? version : (before?.version ?? 0),
    createdBy: before?.createdBy ?? by,
    createdAt: before?.createdAt ?? now,
    changedAt: now,
  };
  await store.save(environment, row, { name, version, files, built: JSON.stringify(built), createdBy: by, createdAt: now });
  ground.directory.forget(environment);
  return { row, isNew: !before };
}

export function functionRoutes(parts: Parts, ground: Ground): Route[] {
  const own = operations.functions;
  const { store } = ground.directory;
  const shown = (environment: Environment, row: FunctionRow): Promise<FunctionShown> => store.present(environment, row, parts.now());
  const audited = {
    read: async (call: Naming<{ name: string }>) => {
      const row = await orNone(named(ground, environmentOf(call), call.params.name));
      if (!row) return null;
      const { runs: _, ...document } = await shown(environmentOf(call), row);
      return document;
    },
  };
  return [
    bind(own.list, async (call) => {
      const environment = environmentOf(call);
      return { body: { items: await Promise.all((await store.list(environment)).map((row) => shown(environment, row))) } };
    }),
    bind(own.read, async (call) => ({
      body: await shown(environmentOf(call), await named(ground, environmentOf(call), call.params.name)),
    })),
    bind(
      own.put,
      async (call) => {
        const environment = environmentOf(call);
        const { row, isNew } = await saveVersion(parts, ground, environment, call.params.name, call.body, actorOf(call));
        return { body: await shown(environment, row), status: isNew ? 201 : 200 };
      },
      { ...audited, as: 'apart' },
    ),
    bind(
      own.remove,
      async (call) => {
        await named(ground, environmentOf(call), call.params.name);
        await store.remove(environmentOf(call), call.params.name);
        ground.directory.forget(environmentOf(call));
        return { body: undefined };
      },
      audited,
    ),
    bind(own.versions, async (call) => {
      const environment = environmentOf(call);
      const row = await named(ground, environment, call.params.name);
      const items = (await store.versions(environment, row.name)).map(({ version, files, createdBy, createdAt }) => ({
        version,
        files: storedJson(files as never) as unknown as Record<string, string>,
        createdBy: environment.actors.show(createdBy),
        createdAt: createdAt.toISOString(),
        inForce: version === row.version,
      }));
      return { body: { items } };
    }),
    bind(
      own.use,
      async (call) => {
        const environment = environmentOf(call);
        const row = await named(ground, environment, call.params.name);
        const { version } = call.body;
        if (version > 0 && !(await store.version(environment, row.name, version)))
          throw new Problem('not-found', `${row.name} has no version ${version}.`);
        const changed = { ...row, version, changedAt: new Date(parts.now()) };
        await store.save(environment, changed, null);
        ground.directory.forget(environment);
        return { body: await shown(environment, changed) };
      },
      audited,
    ),
    bind(own.try, async (call) => ({ body: await tryFunction(parts, ground, call) })),
    bind(own.runs, async (call) => {
      const { name } = await named(ground, environmentOf(call), call.params.name);
      return { body: await store.runs(environmentOf(call), name, call.query, parts) };
    }),
    ...secretRoutes(parts, ground),
    ...endpointRoutes(parts, ground),
  ];
}

type TryCall = Parameters<Parameters<typeof bind<typeof operations.functions.try>>[1]>[0];

async function tryFunction(parts: Parts, ground: Ground, call: TryCall) {
  const environment = environmentOf(call);
  const { request, user } = call.body;
  const row = await named(ground, environment, call.params.name);
  const draft = filesOf(call.body);
  const version = draft ? null : await ground.directory.store.version(environment, row.name, row.version);
  if (!draft && !version) throw new Problem('not-found', `No version of ${row.name} is in force. Send a draft as source or files.`);
  const files = draft
    ? await ground.checker.build(draft, await parts.catalogue.all(environment))
    : (JSON.parse(version?.built as string) as Record<string, string>);
  const author = user ? await asUser(environment, user) : OWN_RIGHTS;
  const endpoint = inForce(row, files);
  const report = await ground.running.try({
    environment,
    program: endpoint.program,
    author: row.rights === 'own' ? OWN_RIGHTS : author,
    hosts: endpoint.hosts,
    secret: secretOf(ground, environment),
    request: { ...request, body: (request.body ?? null) as Json, path: row.path, caller: callerOf(user ? 'user' : 'server', author) },
  });
  const { outcome, answer, error, log, calls, changes } = report;
  return { outcome, answer, error, log, calls, changes, durationMs: report.durationUs / 1000, cpuMs: report.cpuUs / 1000 };
}

async function asUser(environment: Environment, id: string): Promise<Author> {
  const user = await new UserStore().named(environment, id);
  return {
    userId: id,
    roles: user.roles ?? [],
    fields: await fieldsForRules(environment, user),
    trusted: false,
    told: true,
    by: writeActor(THE_SERVICE),
  };
}

const callerOf = (kind: 'user' | 'client' | 'server', { userId, roles }: Author): JsonObject => ({ kind, userId, roles: [...roles] });

function secretRoutes(parts: Parts, { directory }: Ground): Route[] {
  const own = operations.functions;
  const { store } = directory;
  const present = ({ actors }: Environment, { name, changedBy, changedAt }: SecretRow) => ({
    name,
    changedBy: actors.show(changedBy),
    changedAt: changedAt.toISOString(),
  });
  const audited = {
    read: async (call: Naming<{ secret: string }>) => {
      const row = (await store.secrets(environmentOf(call))).find(({ name }) => name === call.params.secret);
      return row ? present(environmentOf(call), row) : null;
    },
  };
  return [
    bind(own.secrets, async (call) => ({
      body: { items: (await store.secrets(environmentOf(call))).map((row) => present(environmentOf(call), row)) },
    })),
    bind(
      own.putSecret,
      async (call) => {
        const environment = environmentOf(call);
        const { secret: name } = call.params;
        const known = await store.secrets(environment);
        if (known.length >= MOST_SECRETS && !known.some((row) => row.name === name))
          throw new Problem('wrong-state', `There are ${MOST_SECRETS} secrets here already. Delete one that is no longer needed.`);
        const sealed = seal(environment.keys.data, secretContext(environment, name), call.body.value);
        const row: SecretRow = { name, sealed, changedBy: actorOf(call), changedAt: new Date(parts.now()) };
        await store.putSecret(environment, row);
        return { body: present(environment, row) };
      },
      audited,
    ),
    bind(
      own.removeSecret,
      async (call) => {
        if (!(await store.removeSecret(environmentOf(call), call.params.secret)))
          throw new Problem('not-found', `There is no secret ${call.params.secret}.`);
        return { body: undefined };
      },
      audited,
    ),
  ];
}

/** Calls of apps and servers to endpoints: one operation for each method. */
function endpointRoutes(parts: Parts, ground: Ground): Route[] {
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
      author: row.rights === 'own' ? OWN_RIGHTS : author,
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
    void record(parts, ground, call, row, report);
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

/** Written after the answer: a run is not worth making a caller wait. */
async function record(parts: Parts, { directory }: Ground, call: Call, row: FunctionRow, report: RunReport): Promise<void> {
  const environment = environmentOf(call);
  const { outcome, answer, error, durationUs, cpuUs, log, calls } = report;
  await directory.store
    .addRun(environment, {
      id: call.id,
      name: row.name,
      version: row.version,
      at: new Date(call.at),
      durationUs: Math.round(durationUs),
      cpuUs,
      outcome,
      failed: outcome === 'failed' || outcome === 'stopped',
      status: answer?.status ?? null,
      error: error?.slice(0, 5_000) ?? null,
      details: { log, calls } as unknown as JsonObject,
      userId: call.user?.id ?? null,
    })
    .catch((problem) => parts.log.warn({ err: problem, function: row.name }, 'a run could not be recorded'));
}
