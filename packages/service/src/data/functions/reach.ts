/** What a run can reach: each call of it is answered here, with the rights that the function has. */
import { operations, Problem } from '@orchard/contract';
import type { FieldProblem, JsonObject } from '@orchard/core';
import { z } from 'zod';
import { problemsOf } from '../../platform/http/validate.js';
import type { Statements } from '../../platform/database/connection.js';
import type { Environment } from '../../platform/call.js';
import type { Author } from '../records/author.js';
import type { Expected, RecordListRequest, SummaryRequest } from '../records/forms.js';
import { RecordLists } from '../records/listStore.js';
import type { RecordsElsewhere } from '../records/ports.js';
import { Records } from '../records/records.js';
import { Summaries } from '../records/summaryStore.js';
import { CallRefused } from './callRefused.js';
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
/** What a function hands over, as the contract has it. @throws {CallRefused} */
function demand<Schema extends z.ZodType>(schema: Schema, value: unknown, where: string): z.output<Schema> {
  const result = schema.safeParse(value);
  if (result.success) return result.data;
  const [{ path, problem }] = problemsOf(schema, value, where) as [FieldProblem];
  throw new CallRefused(`invalid-input: \`${path}\`: ${problem}`);
}
const { records: OWN } = operations;
const bodyOf = <Schema>({ body }: { body?: Schema | undefined }) => body as Schema;
const OPTIONS = z.strictObject({ version: z.int().min(1).optional() });

/** A write as the function asks for it. */
type Write = { id: string; record: JsonObject; expected: Expected };
type Target = {
  create: (write: Write) => Promise<unknown>;
  put: (write: Write) => Promise<unknown>;
  change: (write: Write) => Promise<unknown>;
  remove: (write: Write) => Promise<unknown>;
};
const WRITES = ['create', 'put', 'change', 'remove'] as const;
type WriteName = (typeof WRITES)[number];

/** @param given `[record]`, `[id, record, options]` or `[id, options]` */
function writeOf(name: WriteName, collection: string, given: unknown[]): Write {
  const id = name === 'create' ? '' : demand(OWN.read.params, { collection, id: given[0] }, 'path').id;
  const record = name === 'remove' ? {} : demand(bodyOf(OWN.create), given[name === 'create' ? 0 : 1], 'record');
  const { version } = demand(OPTIONS, (name === 'create' ? null : given[name === 'remove' ? 1 : 2]) ?? {}, 'options');
  return { id, record, expected: version === undefined ? {} : { version } };
}

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
      throw this.#told(error, name);
    }
  }

  #told(error: unknown, name: string): CallRefused {
    if (error instanceof CallRefused) return error;
    if (error instanceof Problem) return new CallRefused(`${error.problem}: ${error.detail}`);
    this.parts.log.error({ err: error, environment: this.at.environment.id, call: name }, 'a call of a function failed');
    return new CallRefused(`${name} failed in the service, which noted why in its log.`);
  }

  async #value(name: string, given: unknown[]): Promise<unknown> {
    if (name === 'secret') return this.at.secret(String(given[0]));
    if (name === 'fetch') return this.fetching.fetch(this.at.hosts, given[0], (given[1] ?? {}) as object);
    const { collection } = demand(OWN.list.params, { collection: given[0] }, 'path');
    const outside = await this.parts.recordPorts.elsewhere(this.at.environment, collection);
    const [work, ...rest] = [name.replace('records.', ''), ...given.slice(1)];
    if (work === 'read') return this.#read(outside, collection, rest);
    if (work === 'list') return this.#list(outside, collection, demand(bodyOf(OWN.query), rest[0] ?? {}, 'query'));
    if (work === 'summary') return this.#summary(outside, collection, demand(bodyOf(OWN.querySummary), rest[0] ?? {}, 'query'));
    const write = WRITES.find((one) => one === work);
    if (!write) throw new CallRefused(`There is no ${name}.`);
    return this.#write(outside, write, collection, writeOf(write, collection, rest));
  }

  async #read(outside: RecordsElsewhere | null, collection: string, [given, query]: unknown[]): Promise<unknown> {
    const { environment, author, on } = this.at;
    const { id } = demand(OWN.read.params, { collection, id: given }, 'path');
    const request = demand(OWN.read.query, query ?? {}, 'query');
    if (outside) return outside.read(id, author, request);
    // A trial sees what it has written itself.
    if (on && this.changes.length > 0) {
      const { shape } = await this.#records.known(environment, collection);
      const row = await this.#records.row(on, shape, id);
      if (row) return row;
    }
    return this.#lists.read(environment, collection, id, author, request);
  }

  #list(outside: RecordsElsewhere | null, collection: string, request: RecordListRequest): Promise<unknown> {
    const { environment, author } = this.at;
    return outside ? outside.list(request, author) : this.#lists.list(environment, collection, request, author);
  }

  #summary(outside: RecordsElsewhere | null, collection: string, request: SummaryRequest): Promise<unknown> {
    const { environment, author } = this.at;
    return outside ? outside.summarise(request, author) : this.#summaries.summarise(environment, collection, request, author);
  }

  async #write(outside: RecordsElsewhere | null, name: WriteName, collection: string, write: Write): Promise<unknown> {
    const { environment, on } = this.at;
    if (outside) {
      if (on) throw new CallRefused(`\`${collection}\` stands on another server, where a trial cannot undo what it writes.`);
      return this.#elsewhere(outside)[name](write);
    }
    if (!on)
      // A change that depends on what stands there is made under a lock, and so in a transaction.
      return this.#records.attempt(environment, name !== 'create', (statements) => this.#here(statements, collection)[name](write));
    const after = await this.#here(on, collection)[name](write);
    this.changes.push({
      call: `records.${name}`,
      collection,
      ...(write.id ? { id: write.id } : {}),
      after: (after ?? null) as never,
    });
    return after;
  }

  #here(on: Statements, collection: string): Target {
    const { environment, author } = this.at;
    const scope = { environment, collection, author };
    return {
      create: ({ record }) => this.#records.create(on, scope, record),
      put: async ({ id, record, expected }) => (await this.#records.put(on, scope, id, record, expected)).record,
      change: ({ id, record, expected }) => this.#records.patch(on, scope, id, record, expected),
      remove: ({ id, expected }) => this.#records.remove(on, scope, id, expected),
    };
  }

  #elsewhere(outside: RecordsElsewhere): Target {
    const { author } = this.at;
    return {
      create: ({ record }) => outside.create(record, author),
      put: async ({ id, record, expected }) => (await outside.put(id, record, expected, author)).record,
      change: ({ id, record, expected }) => outside.patch(id, record, expected, author),
      remove: ({ id, expected }) => outside.remove(id, expected, author),
    };
  }
}
