/** Records as a function reaches them: each call is checked by the contract, and passes the gate of records. */
import { operations } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { z } from 'zod';
import { Batches } from '../records/batch.js';
import type { Expected, RecordListRequest, SummaryRequest } from '../records/forms.js';
import { WriteGate } from '../records/gate.js';
import { RecordLists } from '../records/listStore.js';
import type { AskedWrite, HookedWrite, RecordsElsewhere } from '../records/ports.js';
import { Records } from '../records/records.js';
import { Summaries } from '../records/summaryStore.js';
import { writeElsewhere } from '../records/writeElsewhere.js';
import { CallRefused } from './callRefused.js';
import { bodyOf, demand } from './demand.js';
import type { Parts } from './parts.js';
import type { Reaching } from './reaching.js';

const { records: OWN, batches: BATCHES } = operations;
const OPTIONS = z.strictObject({ version: z.int().min(1).optional() });
const VERSION = z.int().min(1);
const WRITES = ['create', 'put', 'change', 'remove'] as const;

/** @param given `[record]`, `[id, record, options]` or `[id, options]` */
function askedOf(action: AskedWrite['action'], collection: string, given: unknown[]): AskedWrite {
  const id = action === 'create' ? '' : demand(OWN.read.params, { collection, id: given[0] }, 'path').id;
  const record = action === 'remove' ? {} : demand(bodyOf(OWN.create), given[action === 'create' ? 0 : 1], 'record');
  const { version } = demand(OPTIONS, (action === 'create' ? null : given[action === 'remove' ? 1 : 2]) ?? {}, 'options');
  const expected: Expected = version === undefined ? {} : { version };
  return { action, collection, id, record, expected };
}

/** What reads and writes records, made once for all runs. */
export class RecordAccess {
  readonly records: Records;
  readonly lists: RecordLists;
  readonly summaries: Summaries;
  readonly gate: WriteGate;
  readonly batches: Batches;

  constructor(readonly parts: Parts) {
    this.records = new Records(parts);
    this.lists = new RecordLists(parts, this.records);
    this.summaries = new Summaries(parts, this.records);
    this.gate = new WriteGate(parts, this.records);
    this.batches = new Batches(parts, this.records);
  }
}

export class RecordReach {
  /** What a trial would have written. */
  readonly changes: JsonObject[] = [];

  constructor(
    private readonly access: RecordAccess,
    private readonly at: Reaching,
  ) {}

  /** @param work `read`, `list`, `summary` or a write @throws {CallRefused, Problem} */
  async value(work: string, name: unknown, given: unknown[]): Promise<unknown> {
    const { environment, author } = this.at;
    const { collection } = demand(OWN.list.params, { collection: name }, 'path');
    const outside = await this.access.parts.recordPorts.elsewhere(environment, collection);
    if (work === 'read') {
      const { id } = demand(OWN.read.params, { collection, id: given[0] }, 'path');
      const request = demand(OWN.read.query, given[1] ?? {}, 'query');
      return outside ? outside.read(id, author, request) : this.access.lists.read(environment, collection, id, author, request);
    }
    if (work === 'list') {
      const request: RecordListRequest = demand(bodyOf(OWN.query), given[0] ?? {}, 'query');
      return outside ? outside.list(request, author) : this.access.lists.list(environment, collection, request, author);
    }
    if (work === 'summary') {
      const request: SummaryRequest = demand(bodyOf(OWN.querySummary), given[0] ?? {}, 'query');
      return outside ? outside.summarise(request, author) : this.access.summaries.summarise(environment, collection, request, author);
    }
    const action = WRITES.find((one) => one === work);
    if (!action) throw new CallRefused(`There is no records.${work}.`);
    const asked = askedOf(action, collection, given);
    if (outside) return this.#elsewhere(outside, asked);
    return this.at.joining ? this.#join(this.at.joining, asked) : this.#write(asked);
  }

  async #write(asked: AskedWrite): Promise<unknown> {
    const { environment, author } = this.at;
    const { record } = await this.access.gate.write({ environment, author }, asked, false, (_on, write) => write());
    this.#note(asked, record);
    return record ?? undefined;
  }

  #note({ action, collection, id }: AskedWrite, after: JsonObject | null): void {
    if (this.at.isTrial) this.changes.push({ call: `records.${action}`, collection, ...(id ? { id } : {}), after: after as never });
  }

  /** A write of a hook before a write: it is done in that one's transaction. */
  async #join({ joined, isApart }: NonNullable<Reaching['joining']>, asked: AskedWrite): Promise<unknown> {
    if (isApart) throw new CallRefused('There is no write here that it could join. Write in a hook after the action.');
    const { environment, author } = this.at;
    const write =
      asked.action === 'create'
        ? { ...asked, record: { ...asked.record, id: this.access.records.identify(asked.record, author).id } }
        : asked;
    const hooked: HookedWrite | null = await this.access.gate.ask({ environment, author }, write);
    joined.push({ author, asked: write, hooked });
    this.#note(write, write.record);
    return { id: write.id || write.record.id };
  }

  async #elsewhere(outside: RecordsElsewhere, asked: AskedWrite): Promise<unknown> {
    const { author, isTrial, joining } = this.at;
    if (isTrial || joining)
      throw new CallRefused(
        `\`${asked.collection}\` stands on another server, where ${isTrial ? 'a trial cannot undo what it writes' : 'a write cannot join a transaction'}.`,
      );
    return (await writeElsewhere(outside, asked, author)).record ?? undefined;
  }

  /** Several writes, all or nothing. */
  async together(actions: unknown): Promise<unknown> {
    if (this.at.joining) throw new CallRefused('What a hook before a write writes is done together with it. Use `records`.');
    const { environment, author } = this.at;
    const body = demand(bodyOf(BATCHES.app), { actions }, 'body');
    const placed = await this.access.batches.across({ environment, author }, body.actions);
    const results = await this.access.records.attempt(environment, true, (on) => this.access.batches.run(on, placed, true));
    if (this.at.isTrial) this.changes.push(...body.actions.map((action) => ({ call: 'together', ...action }) as unknown as JsonObject));
    return { results };
  }

  /** The version of a record that must still hold when the write is stored. */
  rely(collection: unknown, id: unknown, version: unknown): void {
    const { joining } = this.at;
    if (!joining || joining.isApart) throw new CallRefused('`rely` is for hooks before a write.');
    const at = demand(OWN.read.params, { collection, id }, 'path');
    joining.relies.push({ ...at, version: demand(VERSION, version, 'version') });
  }
}
