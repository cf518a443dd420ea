/** What the team does with upstreams: add, change, describe, check, try. */
import { lookup } from 'node:dns/promises';
import { type operations, Problem, type Upstream, type UpstreamDefinition } from '@orchard/contract';
import { type Json, type JsonObject, openApiProblem, operationsIn, readFilter, templateProblem } from '@orchard/core';
import { authorOf, type bind, type Environment, environmentOf } from '../../platform/call.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { readingFilter } from '../../platform/database/listing.js';
import { hostsOf, isPublic } from '../../platform/http/publicHosts.js';
import { CallRefused } from '../functions/callRefused.js';
import type { UpstreamConnection } from './calling.js';
import type { UpstreamDirectory } from './directory.js';
import { secretsIn } from './identifying.js';
import type { Parts } from './parts.js';
import type { UpstreamRow, UpstreamStore } from './store.js';
import { callerScope } from './straight.js';

const MOST = 100;
type PutCall = Parameters<Parameters<typeof bind<typeof operations.upstreams.put>>[1]>[0];
type TryCall = Parameters<Parameters<typeof bind<typeof operations.upstreams.try>>[1]>[0];
type Check = NonNullable<Upstream['check']>;

const invalid = (path: string, problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path: `body.${path}`, problem, expected }] });

export class UpstreamManaging {
  constructor(
    private readonly parts: Parts,
    private readonly store: UpstreamStore,
    private readonly directory: UpstreamDirectory,
  ) {}

  async list(environment: Environment): Promise<Upstream[]> {
    const [recorded, rows] = [await this.store.recorded(environment), await this.store.list(environment)];
    const connections = await this.directory.all(environment);
    // Checks are another instance's as well, and no reason to connect anew.
    return rows.flatMap((row) => {
      const connection = connections.get(row.name);
      return connection ? [this.#present(environment, connection, row, recorded.get(row.name) ?? 0)] : [];
    });
  }

  /** @throws {Problem} not-found */
  async read(environment: Environment, name: string): Promise<Upstream> {
    const connection = await this.named(environment, name);
    const [recorded, row] = [await this.store.recorded(environment), await this.store.find(environment, name)];
    return this.#present(environment, connection, row ?? connection.row, recorded.get(name) ?? 0);
  }

  /** @throws {Problem} not-found */
  async named(environment: Environment, name: string): Promise<UpstreamConnection> {
    const found = await this.directory.find(environment, name);
    if (!found) throw new Problem('not-found', `There is no upstream ${name} in ${environment.app}/${environment.name}.`);
    return found;
  }

  #present({ actors }: Environment, connection: UpstreamConnection, row: UpstreamRow, recorded: number): Upstream {
    const { name, description, check, createdBy, changedAt } = row;
    return {
      name,
      ...connection.definition,
      description: description !== null,
      recorded,
      check: check && (storedJson(check as never) as unknown as Check),
      health: connection.health(),
      createdBy: actors.show(createdBy),
      changedAt: changedAt.toISOString(),
    };
  }

  async put(call: PutCall): Promise<{ upstream: Upstream; isNew: boolean }> {
    const environment = environmentOf(call);
    const { upstream: name } = call.params;
    await this.#demandSound(environment, call.body);
    const before = await this.store.find(environment, name);
    if (!before && (await this.store.list(environment)).length >= MOST)
      throw new Problem('wrong-state', `There are ${MOST} upstreams here already. Delete one that is no longer needed.`);
    const row: UpstreamRow = {
      name,
      definition: call.body,
      description: before?.description ?? null,
      check: null,
      createdBy: before?.createdBy ?? authorOf(call),
      changedAt: new Date(this.parts.now()),
    };
    await this.store.put(environment, row);
    this.directory.forget(environment);
    return { upstream: await this.read(environment, name), isNew: !before };
  }

  /** @throws {Problem} invalid-input, malformed-filter */
  async #demandSound(environment: Environment, { address, identify, operations: chosen }: UpstreamDefinition): Promise<void> {
    const { hash, search, protocol, username } = new URL(address);
    if (hash || search || username)
      throw invalid('address', 'It has more than a place.', 'scheme, host and the beginning of paths; credentials are secrets');
    if (protocol !== 'https:' && !this.#isTrusted(address))
      throw invalid(
        'address',
        `${address} is not https.`,
        'https, or an origin that the settings of the installation list in ORCHARD_PUSH_ORIGINS',
      );
    if ('tokenAddress' in identify && !identify.tokenAddress.startsWith('https:') && !this.#isTrusted(identify.tokenAddress))
      throw invalid('identify.tokenAddress', `${identify.tokenAddress} is not https.`, 'https: a password goes there');
    const scope = callerScope(await this.parts.ports.userFields(environment));
    for (const [i, { name, rule, take, method, path }] of chosen.entries()) {
      if (rule) readingFilter(() => readFilter(rule, scope));
      const wrong = take && templateProblem(take as Json);
      if (wrong) throw invalid(`operations.${i}.take`, `The template of ${name} is not sound: ${wrong}.`, 'a template in JSON');
      const twin = chosen.findIndex((one) => one.name === name || (one.method === method && one.path === path));
      if (twin < i)
        throw invalid(`operations.${i}`, `${name} is there twice, by its name or by method and path.`, 'an operation of its own');
    }
  }

  #isTrusted(address: string): boolean {
    return this.parts.config.pushOrigins.includes(new URL(address).origin);
  }

  async remove(environment: Environment, name: string): Promise<void> {
    await this.named(environment, name);
    await this.store.remove(environment, name);
    this.directory.forget(environment);
  }

  async describe(environment: Environment, name: string, document: JsonObject) {
    await this.named(environment, name);
    const wrong = openApiProblem(document);
    if (wrong)
      throw new Problem('invalid-input', `${wrong}.`, { fields: [{ path: 'body', problem: wrong, expected: 'an OpenAPI 3 document' }] });
    await this.store.change(environment, name, { description: JSON.stringify(document), changedAt: new Date(this.parts.now()) });
    this.directory.forget(environment);
    return this.described(environment, name);
  }

  async described(environment: Environment, name: string) {
    const { row, definition } = await this.named(environment, name);
    const all = row.description === null ? [] : operationsIn(JSON.parse(row.description) as JsonObject);
    const isChosen = (method: string, path: string) => definition.operations.some((one) => one.method === method && one.path === path);
    return { items: all.map((one) => ({ ...one, chosen: isChosen(one.method, one.path) })) };
  }

  /** Reaches it step by step, so that the first thing that is wrong has a name. */
  async check(environment: Environment, name: string): Promise<Check> {
    const upstream = await this.named(environment, name);
    const detail = await this.#whatIsWrong(environment, upstream);
    const check: Check = {
      at: new Date(this.parts.now()).toISOString(),
      ok: detail === null,
      detail: detail ?? 'It answers, and takes what it is shown.',
    };
    await this.store.change(environment, name, { check: check as unknown as JsonObject });
    return check;
  }

  async #whatIsWrong(environment: Environment, upstream: UpstreamConnection): Promise<string | null> {
    const { definition } = upstream;
    for (const secret of secretsIn(definition)) {
      const missing = await this.parts.functionPorts.secret(environment, secret).then(
        () => false,
        () => true,
      );
      if (missing) return `There is no secret ${secret}. Set it with \`orchard secret set ${secret}\`.`;
    }
    const { hostname, host } = new URL(definition.address);
    const addresses = await lookup(hostname, { all: true }).catch(() => null);
    if (!addresses) return `The name ${hostname} is not known.`;
    if (!hostsOf(this.parts.config.pushOrigins).has(hostname) && !addresses.every(({ address }) => isPublic(address)))
      return `${host} is a private address, which is not called unless the settings of the installation list its origin.`;
    if (upstream.identifying.isPersonal) return null;
    const order = { method: 'GET', path: '', query: {}, headers: {}, body: null, userId: null, trace: null };
    return upstream.call(order).then(
      ({ status }) =>
        status === 401 || status === 403
          ? `It answers ${status}: it does not take what it is shown.`
          : status >= 500
            ? `It answers ${status}.`
            : null,
      (error) => {
        if (error instanceof Problem) return error.extras.teamDetail ?? error.detail;
        if (error instanceof CallRefused) return error.message;
        throw error;
      },
    );
  }

  async try(call: TryCall) {
    const upstream = await this.named(environmentOf(call), call.params.upstream);
    const started = performance.now();
    const answer = await upstream.call({ ...call.body, body: call.body.body, userId: null, trace: call.trace.traceId }).catch((error) => {
      // Members may know what is kept from apps.
      if (error instanceof Problem && error.extras.teamDetail)
        throw new Problem(error.problem, error.extras.teamDetail, { ...error.extras, status: error.status });
      throw error instanceof CallRefused ? new Problem('upstream-failed', error.message) : error;
    });
    const { status, headers, body, cached, tries } = answer;
    const { 'set-cookie': _, ...shown } = headers;
    return {
      status,
      headers: shown,
      body: readBody(body),
      cached,
      tries,
      durationMs: Math.round((performance.now() - started) * 100) / 100,
    };
  }
}

/** JSON as JSON, and other text as text. */
export function readBody(body: Buffer): unknown {
  const text = body.toString();
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}
