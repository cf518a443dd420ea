/**
 * Pushing: changes that a device made offline, in their order. Each is merged with what the record holds by now, and taken or
 * refused by itself; one that was taken before counts once. Changes up to the next one of the same record are stored together.
 */
import {
  type BatchAction,
  type BatchResult,
  type operations,
  Problem,
  type PushedChange,
  type SyncOutcome,
  type SyncPushed,
} from '@orchard/contract';
import { type FieldConflict, hasFieldChanges, type JsonObject, mergeFields, own, patchTo, readFieldChanges } from '@orchard/core';
import { type Call, type Environment, environmentOf } from '../../platform/call.js';
import { isDuplicate } from '../../platform/database/errors.js';
import { type Author, authorOf } from '../records/author.js';
import { Batches } from '../records/batch.js';
import { RecordLists } from '../records/listStore.js';
import { asSeen, mayRead } from '../records/reading.js';
import { Records } from '../records/records.js';
import { writeElsewhere } from '../records/writeElsewhere.js';
import { presentRow } from '../collections/shape.js';
import type { Parts } from './parts.js';
import { noteTaken, type TakenChange, takenAmong } from './takenStore.js';

type PushCall = Call<(typeof operations.sync)['push']>;
/** What a change becomes: an action over the version that was seen, or its outcome at once. */
type Planned = { action: BatchAction; conflicts: FieldConflict[] } | { outcome: Omit<SyncOutcome, 'id'> };
type Ground = { environment: Environment; author: Author };

/** How often changes are merged again when a record changes meanwhile. */
const ROUNDS = 5;

export class Pushing {
  readonly #records: Records;
  readonly #batches: Batches;
  readonly #lists: RecordLists;

  constructor(private readonly parts: Parts) {
    this.#records = new Records(parts);
    this.#batches = new Batches(parts, this.#records);
    this.#lists = new RecordLists(parts, this.#records);
  }

  async push(call: PushCall): Promise<SyncPushed> {
    const ground = { environment: environmentOf(call), author: authorOf(call) };
    const { changes } = call.body;
    const outcomes = new Map<string, SyncOutcome>();
    for (const wave of wavesOf(changes)) {
      const taken = await takenAmong(
        ground.environment.db,
        ground.environment,
        wave.map(({ id }) => id),
      );
      for (const { id, by, version, conflicts } of taken.values())
        outcomes.set(id, by === ground.author.by ? told({ id, status: 'taken', version, conflicts }) : takenByAnother(id));
      await this.#wave(
        ground,
        wave.filter(({ id }) => !taken.has(id)),
        outcomes,
      );
    }
    return {
      results: changes.map(({ id }) => outcomes.get(id) as SyncOutcome),
      records: await this.#asTheyAre(
        ground,
        changes.filter(({ id }) => outcomes.get(id)?.status === 'taken'),
      ),
    };
  }

  async #wave(ground: Ground, wave: readonly PushedChange[], outcomes: Map<string, SyncOutcome>): Promise<void> {
    const [here, outside] = await this.#placed(ground, wave);
    for (const change of outside) outcomes.set(change.id, await this.#outside(ground, change));
    let left = here;
    for (let round = 1; left.length > 0; round++) {
      const results = await this.#attempt(ground, left);
      const overtaken = round < ROUNDS ? left.filter((change) => isOvertaken(change, results.get(change.id))) : [];
      for (const change of left) if (!overtaken.includes(change)) outcomes.set(change.id, results.get(change.id) as SyncOutcome);
      left = overtaken;
    }
  }

  async #placed({ environment }: Ground, wave: readonly PushedChange[]): Promise<[PushedChange[], PushedChange[]]> {
    const elsewhere = new Set<string>();
    for (const collection of new Set(wave.map((change) => change.collection)))
      if (await this.parts.recordPorts.elsewhere(environment, collection)) elsewhere.add(collection);
    return [wave.filter(({ collection }) => !elsewhere.has(collection)), wave.filter(({ collection }) => elsewhere.has(collection))];
  }

  /** Merges changes with what stands there, and stores them in one transaction. */
  async #attempt(ground: Ground, changes: readonly PushedChange[]): Promise<Map<string, SyncOutcome>> {
    const planned = new Map<string, Planned>();
    for (const change of changes) planned.set(change.id, await this.#plan(ground, change));
    const asked = changes.flatMap((change) => {
      const plan = planned.get(change.id) as Planned;
      return 'action' in plan ? [{ change, ...plan }] : [];
    });
    const placed = await this.#batches.across(
      ground,
      asked.map(({ change, action }) => ({ collection: change.collection, ...action })) as never,
    );
    const ids = asked.map(({ change }) => change.id);
    const results = await this.#store(ground, changes, planned, { ids, placed });
    return new Map(changes.map(({ id }) => [id, outcomeOf(id, planned.get(id) as Planned, results.get(id))]));
  }

  async #store(
    { environment, author }: Ground,
    changes: readonly PushedChange[],
    planned: ReadonlyMap<string, Planned>,
    { ids, placed }: { ids: string[]; placed: Parameters<Batches['run']>[1] },
  ): Promise<Map<string, BatchResult>> {
    try {
      return await this.#records.attempt(environment, true, async (on) => {
        const done = ids.length > 0 ? await this.#batches.run(on, placed, false) : [];
        const results = new Map(ids.map((id, at) => [id, done[at] as BatchResult]));
        const taken = changes.flatMap(({ id }): TakenChange[] => {
          const outcome = outcomeOf(id, planned.get(id) as Planned, results.get(id));
          if (outcome.status !== 'taken') return [];
          return [{ id, by: author.by, version: outcome.version ?? null, conflicts: outcome.conflicts ?? null }];
        });
        await noteTaken(on, environment, taken, new Date(this.parts.now()));
        return results;
      });
    } catch (error) {
      // Another call of the same device was faster: its changes are found as taken when this is sent again.
      if (isDuplicate(error)) throw new Problem('busy', 'The same changes are being stored by another call.', { retryAfterS: 1 });
      throw error;
    }
  }

  async #plan(ground: Ground, change: PushedChange): Promise<Planned> {
    const { environment, author } = ground;
    if (change.action === 'create') return { action: { action: 'create', record: { ...change.fields, id: change.record } }, conflicts: [] };
    try {
      const { shapes, shape } = await this.#records.known(environment, change.collection);
      const row = await this.#records.row(shape.db, shape, change.record);
      if (change.action === 'remove') {
        if (!row) return { outcome: { status: 'taken' } };
        return { action: { action: 'delete', id: change.record, ifVersion: change.version || row.version }, conflicts: [] };
      }
      const before = row && presentRow(shape, row, null, true);
      const isRead = before && (author.trusted || (await mayRead(shape.db, shapes, shape, before, author, this.parts.now())));
      // What may not be read is not merged with: the write itself says what it may.
      if (!isRead) return { action: { action: 'patch', id: change.record, record: change.fields }, conflicts: [] };
      const seen = await asSeen(shape.db, shapes, shape, before, author, this.parts.now());
      const { patch, conflicts } = merged(change, seen, (field) => shape.fields.get(field)?.merge);
      if (Object.keys(patch).length === 0) return { outcome: { status: 'taken', version: before.version, ...listed(conflicts) } };
      return { action: { action: 'patch', id: change.record, record: patch, ifVersion: before.version }, conflicts };
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      return { outcome: { status: 'refused', problem: error.toDocument() } };
    }
  }

  /** Tables of another server: one by one, and not in the transaction that notes them. */
  async #outside({ environment, author }: Ground, change: PushedChange): Promise<SyncOutcome> {
    const outside = await this.parts.recordPorts.elsewhere(environment, change.collection);
    if (!outside) return { id: change.id, status: 'refused', problem: new Problem('collection-unknown').toDocument() };
    const record = change.action === 'remove' ? {} : change.action === 'create' ? { ...change.fields, id: change.record } : change.fields;
    const asked = { action: change.action, collection: change.collection, id: change.record, record, expected: {} } as const;
    try {
      const { record: stored } = await writeElsewhere(outside, asked, author);
      const version = stored?.version ?? null;
      await noteTaken(
        environment.db,
        environment,
        [{ id: change.id, by: author.by, version, conflicts: null }],
        new Date(this.parts.now()),
      );
      return told({ id: change.id, status: 'taken', version, conflicts: null });
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      return { id: change.id, status: 'refused', problem: error.toDocument() };
    }
  }

  /** Records that were written, as the author sees them now. */
  async #asTheyAre({ environment, author }: Ground, changes: readonly PushedChange[]): Promise<SyncPushed['records']> {
    const found: SyncPushed['records'] = [];
    for (const collection of new Set(changes.map((change) => change.collection))) {
      const ids = [...new Set(changes.filter((change) => change.collection === collection).map(({ record }) => record))];
      try {
        const outside = await this.parts.recordPorts.elsewhere(environment, collection);
        const items = outside
          ? await Promise.all(ids.map((id) => outside.read(id, author, {}).catch(() => null)))
          : (await this.#lists.list(environment, collection, { ids, sort: 'id', limit: ids.length }, author)).items;
        for (const record of items) if (record) found.push({ collection, record: record as never });
      } catch (error) {
        // Whoever may write and not read gets nothing back.
        if (!(error instanceof Problem)) throw error;
      }
    }
    return found;
  }
}

/** Changes in runs without two of one record: the second one is merged with what the first left. */
function wavesOf(changes: readonly PushedChange[]): PushedChange[][] {
  const waves: PushedChange[][] = [];
  let records = new Set<string>();
  for (const change of changes) {
    const key = `${change.collection}/${change.record}`;
    if (waves.length === 0 || records.has(key)) {
      waves.push([]);
      records = new Set();
    }
    records.add(key);
    waves.at(-1)?.push(change);
  }
  return waves;
}

/** A change over the record as it is. Sums and items of lists need no merging. */
function merged(
  { fields, seen }: Extract<PushedChange, { action: 'change' }>,
  before: JsonObject,
  policyOf: Parameters<typeof mergeFields>[3],
): { patch: JsonObject; conflicts: FieldConflict[] } {
  const plain = hasFieldChanges(fields) ? readFieldChanges(fields).plain : fields;
  const sums = Object.fromEntries(Object.entries(fields).filter(([name]) => !Object.hasOwn(plain, name)));
  const { values, conflicts } = mergeFields(seen, plain, before, policyOf);
  const patch = Object.fromEntries(Object.entries(values).map(([name, value]) => [name, patchTo(own(before, name) ?? null, value)]));
  return { patch: { ...patch, ...sums }, conflicts };
}

const listed = (conflicts: readonly FieldConflict[]) => (conflicts.length > 0 ? { conflicts: [...conflicts] } : {});

function outcomeOf(id: string, planned: Planned, result: BatchResult | undefined): SyncOutcome {
  if ('outcome' in planned) return { id, ...planned.outcome };
  if (!result || result.problem) return { id, status: 'refused', ...(result?.problem ? { problem: result.problem } : {}) };
  return { id, status: 'taken', ...(result.version === undefined ? {} : { version: result.version }), ...listed(planned.conflicts) };
}

const told = ({ version, conflicts, ...rest }: Omit<TakenChange, 'by'> & { status: 'taken' }): SyncOutcome => ({
  ...rest,
  ...(version === null ? {} : { version }),
  ...listed(conflicts ?? []),
});

const takenByAnother = (id: string): SyncOutcome => ({
  id,
  status: 'refused',
  problem: new Problem('already-exists', `The change ${id} was made by somebody else. Each change needs an id of its own.`).toDocument(),
});

/** A change is merged again with what overtook it; a deletion of what changed meanwhile stays a conflict. */
const isOvertaken = ({ action }: PushedChange, outcome: SyncOutcome | undefined): boolean =>
  action === 'change' && outcome?.status === 'refused' && outcome.problem?.status === 412;
