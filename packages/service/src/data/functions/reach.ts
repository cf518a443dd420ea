/** What a run can reach: each call of it is answered here, with the rights that the function has. */
import type { JsonObject } from '@orchard/core';
import { Problem } from '@orchard/contract';
import type { Statements } from '../../platform/database/connection.js';
import type { Environment } from '../../platform/call.js';
import type { Author } from '../records/author.js';
import { RecordLists } from '../records/listStore.js';
import { Records } from '../records/records.js';
import { Summaries } from '../records/summaryStore.js';
import type { Fetching } from './fetching.js';
import type { Parts } from './parts.js';

export type MadeCall = { name: string; about: string; ms: number; ok: boolean };
/** `on` of a trial: the transaction that is undone. */
export type Reaching = {
  environment: Environment;
  author: Author;
  hosts: readonly string[];
  secret: (name: string) => Promise<string>;
  on?: Statements;
};
type Write = 'records.create' | 'records.put' | 'records.change' | 'records.remove';

const MOST_RECORDS = 200;

export class Reach {
  readonly calls: MadeCall[] = [];
  /** What a trial would have written. */
  readonly changes: JsonObject[] = [];
  readonly #records: Records;
  readonly #lists: RecordLists;
  readonly #summaries: Summaries;

  constructor(
    private readonly parts: Parts,
    private readonly fetching: Fetching,
    private readonly at: Reaching,
  ) {
    this.#records = new Records(parts);
    this.#lists = new RecordLists(parts, this.#records);
    this.#summaries = new Summaries(parts, this.#records);
  }

  /** Answers one call, and notes it. */
  async answer(name: string, json: string): Promise<string> {
    const given = JSON.parse(json) as unknown[];
    const started = performance.now();
    const about = [given[0], typeof given[1] === 'string' && name !== 'fetch' ? given[1] : undefined]
      .filter(Boolean)
      .join('/')
      .slice(0, 200);
    const note = (ok: boolean) => this.calls.push({ name, about, ms: Math.round((performance.now() - started) * 100) / 100, ok });
    try {
      const value = await this.#value(name, given);
      note(true);
      return value === undefined ? '' : JSON.stringify(value);
    } catch (error) {
      note(false);
      // A problem is in words for whoever called; anything else stays here.
      if (error instanceof Problem) throw new Error(`${error.problem}: ${error.detail}`);
      throw error;
    }
  }

  async #value(name: string, given: unknown[]): Promise<unknown> {
    switch (name) {
      case 'secret':
        return this.at.secret(String(given[0]));
      case 'fetch':
        return this.fetching.fetch(this.at.hosts, given[0], (given[1] ?? {}) as object);
      case 'records.read': {
        const [collection, id, query] = given as [string, string, object | null];
        return this.#read(collection, id, query ?? {});
      }
      case 'records.list':
        return this.#list(given[0] as string, (given[1] ?? {}) as JsonObject);
      case 'records.summary':
        return this.#summary(given[0] as string, (given[1] ?? {}) as JsonObject);
      default:
        return this.#write(name as Write, given);
    }
  }

  async #read(collection: string, id: string, query: object): Promise<unknown> {
    const { environment, author, on } = this.at;
    const outside = await this.parts.recordPorts.elsewhere(environment, collection);
    if (outside) return outside.read(id, author, query);
    // A trial sees what it has written itself.
    if (on && this.changes.length > 0) {
      const { shape } = await this.#records.known(environment, collection);
      const row = await this.#records.row(on, shape, id);
      if (row) return row;
    }
    return this.#lists.read(environment, collection, id, author, query);
  }

  async #list(collection: string, query: JsonObject): Promise<unknown> {
    const { environment, author } = this.at;
    const request = { ...query, limit: Math.min(Number(query.limit ?? 50), MOST_RECORDS) } as never;
    const outside = await this.parts.recordPorts.elsewhere(environment, collection);
    return outside ? outside.list(request, author) : this.#lists.list(environment, collection, request, author);
  }

  async #summary(collection: string, query: JsonObject): Promise<unknown> {
    const { environment, author } = this.at;
    const request = { limit: 100, ...query } as never;
    const outside = await this.parts.recordPorts.elsewhere(environment, collection);
    return outside ? outside.summarise(request, author) : this.#summaries.summarise(environment, collection, request, author);
  }

  async #write(name: Write, given: unknown[]): Promise<unknown> {
    const { environment, author, on } = this.at;
    const [collection, ...rest] = given as [string, ...unknown[]];
    const outside = await this.parts.recordPorts.elsewhere(environment, collection);
    if (outside && on) throw new Error(`\`${collection}\` stands on another server, where a trial cannot undo what it writes.`);
    const scope = { environment, collection, author };
    const version = ((rest[2] ?? rest[1]) as { version?: number } | undefined)?.version;
    const expected = typeof version === 'number' ? { version } : {};
    const work = async (statements: Statements): Promise<unknown> => {
      const [first, second] = rest as [string, JsonObject];
      switch (name) {
        case 'records.create':
          return outside ? outside.create(rest[0] as JsonObject, author) : this.#records.create(statements, scope, rest[0] as JsonObject);
        case 'records.put':
          return (
            outside
              ? await outside.put(first, second, expected, author)
              : await this.#records.put(statements, scope, first, second, expected)
          ).record;
        case 'records.change':
          return outside ? outside.patch(first, second, expected, author) : this.#records.patch(statements, scope, first, second, expected);
        case 'records.remove':
          return outside ? outside.remove(first, expected, author) : this.#records.remove(statements, scope, first, expected);
        default:
          throw new Error(`There is no ${String(name)}.`);
      }
    };
    // A change that depends on what stands there is made under a lock, and so in a transaction.
    const value = on ? await work(on) : await this.#records.attempt(environment, name !== 'records.create', work);
    if (on)
      this.changes.push({
        call: name,
        collection,
        ...(typeof rest[0] === 'string' ? { id: rest[0] } : {}),
        after: (value ?? null) as never,
      });
    return value;
  }
}
