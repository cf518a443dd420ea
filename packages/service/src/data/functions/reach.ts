/** What a run can reach: each call of it is answered here, with the rights that the function has. */
import { type AnyOperation, operations, Problem, type ReplyOf } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { ReadInput } from '../../platform/ports.js';
import { CallRefused } from './callRefused.js';
import type { Fetching } from './fetching.js';
import type { Parts } from './parts.js';
import type { MadeCall, Reaching } from './reaching.js';
import { type RecordAccess, RecordReach } from './recordReach.js';

const FILE_READS = ['read', 'list', 'text'];
const FILE_WRITES = ['write', 'change', 'remove', 'share'];
type Work = (given: unknown[]) => Promise<unknown> | unknown;

export class Reach {
  readonly calls: MadeCall[] = [];
  tooDeep = false;
  readonly #records: RecordReach;
  readonly #works: Readonly<Record<string, Work>>;

  constructor(
    private readonly parts: Parts,
    access: RecordAccess,
    fetching: Fetching,
    private readonly at: Reaching,
  ) {
    this.#records = new RecordReach(access, at);
    this.#works = {
      secret: ([name]) => at.secret(String(name)),
      fetch: ([address, options]) => fetching.fetch(at.hosts, address, (options ?? {}) as object),
      together: ([actions]) => this.#records.together(actions),
      rely: ([collection, id, version]) => this.#records.rely(collection, id, version),
      providerToken: ([way]) => this.#providerToken(String(way)),
      'users.read': ([user]) => this.#ask(operations.users.readByServer, { params: { user } }),
      'users.list': ([query]) => this.#ask(operations.users.listByServer, { query: texts(query) }),
      'users.change': ([user, body]) => this.#do('users.change', operations.users.patchByServer, { params: { user }, body }),
      notify: ([body]) => this.#do('notify', operations.notifications.send, { body }),
      'channels.publish': ([channel, data, options]) =>
        this.#do('channels.publish', operations.channels.publish, { params: { channel }, body: { data, ...(options as object | null) } }),
      ...Object.fromEntries(FILE_READS.map((work) => [`files.${work}`, (given: unknown[]) => parts.functionPorts.files(at, work, given)])),
      ...Object.fromEntries(FILE_WRITES.map((work) => [`files.${work}`, (given: unknown[]) => this.#writeFile(work, given)])),
      'upstreams.call': ([upstream, path, options]) => parts.functionPorts.upstream(at, String(upstream), String(path ?? ''), options),
    };
  }

  get changes(): JsonObject[] {
    return this.#records.changes;
  }

  /** Answers one call, and notes it. */
  async answer(name: string, json: string): Promise<string> {
    const given = JSON.parse(json) as unknown[];
    const started = performance.now();
    const about = [given[0], typeof given[1] === 'string' && name !== 'fetch' ? given[1] : undefined]
      .filter((part) => typeof part === 'string')
      .join('/')
      .slice(0, 200);
    const note = (ok: boolean) => this.calls.push({ name, about, ms: Math.round((performance.now() - started) * 100) / 100, ok });
    try {
      const value = await this.#value(name, given);
      note(true);
      return value === undefined ? '' : JSON.stringify(value);
    } catch (error) {
      note(false);
      throw this.#told(error, name);
    }
  }

  #value(name: string, given: unknown[]): Promise<unknown> | unknown {
    if (name.startsWith('records.')) return this.#records.value(name.slice('records.'.length), given[0], given.slice(1));
    const work = Object.hasOwn(this.#works, name) ? this.#works[name] : undefined;
    if (!work) throw new CallRefused(`There is no ${name}.`);
    return work(given);
  }

  #told(error: unknown, name: string): CallRefused {
    if (error instanceof CallRefused) return error;
    if (error instanceof Problem) {
      if (error.problem === 'hooks-too-deep') this.tooDeep = true;
      return new CallRefused(`${error.problem}: ${error.extras.fields?.[0] ? `\`${error.extras.fields[0].path}\`: ` : ''}${error.detail}`);
    }
    this.parts.log.error({ err: error, environment: this.at.environment.id, call: name }, 'a call of a function failed');
    return new CallRefused(`${name} failed in the service, which noted why in its log.`);
  }

  /** A call of a server key's kind, which the function may make whoever called it. */
  #ask<O extends AnyOperation>(operation: O, input: ReadInput): Promise<ReplyOf<O>> {
    const { environment, name, author } = this.at;
    return this.parts.ports.callAsFunction(operation, name, environment, input, author.origin?.trace ?? undefined);
  }

  /** The same, of a call that has effects. */
  #do(call: string, operation: AnyOperation, input: ReadInput): Promise<unknown> {
    if (this.at.joining)
      throw new CallRefused(`A hook before an action cannot ${call}: it may still be refused. Do it in a hook after it.`);
    if (this.at.isTrial) this.#records.changes.push({ call, ...(input as object) } as JsonObject);
    return this.#ask(operation, input);
  }

  /** A trial shows what it would write; contents cannot be undone, so nothing is written. */
  #writeFile(work: string, given: unknown[]): Promise<unknown> {
    if (this.at.joining)
      throw new CallRefused('A hook before an action writes no files: it may still be refused. Do it in a hook after it.');
    if (!this.at.isTrial) return this.parts.functionPorts.files(this.at, work, given);
    const [path] = given;
    this.#records.changes.push({ call: `files.${work}`, path: String(path) });
    return Promise.resolve({ path });
  }

  async #providerToken(way: string): Promise<string | null> {
    const { environment, userId } = this.at;
    if (!userId) throw new CallRefused('Nobody is signed in whose token at the provider it could be.');
    return this.parts.ports.providerTokens.accessToken(environment, userId, way);
  }
}

/** Parameters of a query, as an address carries them. */
const texts = (query: unknown): Record<string, unknown> =>
  Object.fromEntries(
    Object.entries((query ?? {}) as object).map(([name, value]) => [name, typeof value === 'number' ? String(value) : value]),
  );
