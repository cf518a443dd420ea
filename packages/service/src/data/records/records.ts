/** Writing records: shape, access rule and version are checked here for every caller. */
import { setTimeout as sleep } from 'node:timers/promises';
import { OPEN_ENVIRONMENT, Problem } from '@orchard/contract';
import {
  type AccessRules,
  checkFields,
  type Field,
  type FieldChanges,
  type Fields,
  type Json,
  type JsonObject,
  mergePatch,
  OWNER_ONLY,
  own,
  type RecordAction,
  type RecordCheck,
  targetOfField,
  THE_SERVICE,
  uuidv7,
} from '@orchard/core';
import type { Statements } from '../../platform/database/connection.js';
import { isUnknownColumn } from '../../platform/database/errors.js';
import type { Environment } from '../../platform/call.js';
import { isHeld } from '../collections/onlineChangeDdl.js';
import type { Parts } from './parts.js';
import { type Shapes, unknownCollection } from '../collections/catalogue.js';
import { tellWidened } from '../collections/widening.js';
import { type Deletion, releaseReferences } from './referenceStore.js';
import { type CollectionShape, NO_INDEX_COLUMNS, presentRow, type RecordRow, withoutHidden } from '../collections/shape.js';
import { readChange, sumsOf, valuesAfter } from './changing.js';
import { lockSql, readSql } from './recordSql.js';
import { visibleSql } from '../collections/querySql.js';
import { demandSlowPatterns } from '../collections/patterns.js';
import {
  addToRecord,
  danglingReference,
  deleteRecord,
  idTaken,
  insertRecord,
  type NewRecord,
  newRecord,
  updateRecord,
} from './writeStore.js';
import type { Author } from './author.js';
import { demand, demandMissing, demandSettable } from './demands.js';
import { mayRead, asSeen, leaveOut, unseenIn } from './reading.js';
import type { Expected, StoredRecord } from './forms.js';
import type { DoneWrite } from './ports.js';
import { checkVersion, invalid, missing } from './recordProblems.js';
import { changedNames, givenNames, ownerIn, sentBack, sentOf, without, withoutEcho } from './sentValues.js';

type RowSubject = { shapes: Shapes; shape: CollectionShape; action: RecordAction; row: RecordRow };
/** Where a write happens and who does it; `set` are fields that functions of the team set, whatever the author may. */
export type RecordScope = { environment: Environment; collection: string; author: Author; set?: JsonObject };

/**
 * Thrown inside a write that needs a new collection or new fields; they are created outside, since DDL ends a transaction.
 */
class NeedsFields extends Error {
  constructor(
    readonly collection: string,
    readonly added: Fields,
    readonly widened: readonly string[],
  ) {
    super('The collection needs fields.');
  }
}

const REREADS = 12;
const ID = /^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$/;

/** A field that is changing its type holds writes briefly. */
const HELD_MS = 5;
const HELD_MOST_MS = 5_000;

export class Records {
  /** Transactions from which work for the queue follows. */
  readonly #followed = new WeakSet<Statements>();

  constructor(private readonly parts: Parts) {}

  /**
   * Runs writes until the collections have the fields they need; an open environment creates missing ones between two
   * attempts. With `transaction` all of the work commits together. `told` receives notices of what changed.
   */
  async attempt<T>(
    environment: Environment,
    transaction: boolean,
    work: (on: Statements) => Promise<T>,
    told: (notice: string) => void = () => undefined,
  ): Promise<T> {
    const heldUntil = this.parts.now() + HELD_MOST_MS;
    for (let round = 0; ; round++) {
      try {
        let follows = false;
        const result = await (transaction
          ? environment.db.transaction(async (on) => {
              const done = await work(on);
              follows = this.#followed.has(on);
              return done;
            })
          : work(environment.db));
        this.parts.changes.wake(environment.id);
        if (follows) await this.parts.jobs.wake(environment);
        return result;
      } catch (error) {
        if (isHeld(error)) {
          if (this.parts.now() > heldUntil) throw new Problem('busy', undefined, { retryAfterS: 1 });
          await sleep(HELD_MS);
          round--;
          continue;
        }
        if (round >= REREADS)
          throw error instanceof NeedsFields
            ? new Problem('unexpected', `The fields of \`${error.collection}\` kept changing while this was being stored. Send it again.`)
            : error;
        if (error instanceof NeedsFields) {
          await this.#extend(environment, error);
          for (const field of error.widened) await tellWidened(this.parts, environment, error.collection, field, told);
        } else if (isUnknownColumn(error)) {
          // The table was changed after its shape was read, or by an interrupted attempt.
          if (round > 0) await this.parts.catalogue.repair(environment);
          this.parts.catalogue.forget(environment);
        } else throw error;
      }
    }
  }

  /** Creates what a write to an open environment needs. The team did not ask for it, so the audit names the service. */
  async #extend(environment: Environment, { collection, added, widened }: NeedsFields): Promise<void> {
    await this.parts.catalogue.extend(environment, collection, added, widened);
    await this.parts.audit.note(
      { actor: THE_SERVICE, address: null, request: null, environment },
      {
        action: OPEN_ENVIRONMENT,
        kind: 'collection',
        subject: collection,
        after: { fields: Object.fromEntries([...added].map(([name, { type }]) => [name, type])), widened },
      },
    );
  }

  /** Gives a new record its id and owner. @throws {Problem} invalid-input */
  identify(body: JsonObject, author: Author): NewRecord {
    const { id = uuidv7(this.parts.now(), this.parts.random(10)), ...rest } = body;
    if (typeof id !== 'string' || !ID.test(id)) {
      throw invalid('body.id', 'An id must be letters, digits, ., _ or -.', 'a letter or digit, then up to 63 letters, digits, ., _ or -');
    }
    return { id, chosen: body.id !== undefined, ...this.#ownership(rest, author, null) };
  }

  /** Checks a new record without storing it. */
  async prepareCreate(on: Statements, scope: RecordScope, body: JsonObject): Promise<{ shape: CollectionShape; fresh: NewRecord }> {
    const fresh = this.identify(body, scope.author);
    const { shapes, shape } = await this.#shape(scope.environment, scope.collection);
    return this.#prepareNew(on, scope, shapes, shape, fresh);
  }

  async #prepareNew(
    on: Statements,
    scope: RecordScope,
    shapes: Shapes,
    shape: CollectionShape | null,
    fresh: NewRecord,
  ): Promise<{ shape: CollectionShape; fresh: NewRecord }> {
    const { environment, collection, author, set } = scope;
    const check = await this.#checkSent(scope, shape, fresh.values, 'whole');
    const prepared = { ...fresh, values: check.values, ...ownerIn(set) };
    const ground = shape ?? emptyShape(environment, collection);
    if (!author.trusted) {
      const subject = { shapes, shape: ground, record: newRecord(ground, prepared, new Date(this.parts.now())) };
      await demand(on, author, this.parts.now(), { ...subject, action: 'create' });
      await demandSettable(on, author, this.parts.now(), subject, givenNames(sentOf(fresh.values, set)));
    }
    await this.#demandReferences(on, author, shapes, ground, check.values, null);
    needFields(environment, collection, shape, check);
    return { shape: ground, fresh: prepared };
  }

  async create(on: Statements, scope: RecordScope, body: JsonObject): Promise<StoredRecord> {
    const { shape, fresh } = await this.prepareCreate(on, scope, body);
    return this.#insert(on, scope, shape, fresh);
  }

  async #insert(on: Statements, scope: RecordScope, shape: CollectionShape, fresh: NewRecord): Promise<StoredRecord> {
    const record = await insertRecord(on, shape, fresh, new Date(this.parts.now()), scope.author.by);
    await this.#follow(on, scope, { action: 'create', id: record.id, before: null, record });
    return this.#shown(on, scope, shape, record);
  }

  /** What follows from many that were inserted as one. @param versions those other than 1, by id */
  async created(
    on: Statements,
    scope: RecordScope,
    shape: CollectionShape,
    fresh: readonly NewRecord[],
    now: Date,
    versions: ReadonlyMap<string, number>,
  ): Promise<void> {
    if (!(await this.parts.recordPorts.hooks.on(scope.environment, shape.name)).after) return;
    for (const one of fresh)
      await this.#follow(
        on,
        { ...scope, collection: shape.name },
        { action: 'create', id: one.id, before: null, record: newRecord(shape, one, now, versions.get(one.id)) },
      );
  }

  /** What follows from a write, in its transaction. */
  async #follow(on: Statements, { environment, collection, author }: RecordScope, done: Omit<DoneWrite, 'collection'>): Promise<void> {
    if (await this.parts.recordPorts.hooks.after(on, environment, author, { collection, ...done })) this.#followed.add(on);
    if (done.action === 'delete') await this.parts.recordPorts.gone(on, environment, author, { collection, ...done });
  }

  /** Replaces or creates. @returns the record, and whether it is new */
  async put(
    on: Statements,
    scope: RecordScope,
    id: string,
    body: JsonObject,
    expected: Expected,
  ): Promise<{ record: StoredRecord; created: boolean }> {
    const { environment, collection, author } = scope;
    const { id: given, ...rest } = withoutEcho(body);
    if (given !== undefined && given !== id)
      throw invalid('body.id', `The body's id is ${JSON.stringify(given)}, the address's ${id}.`, 'the same id, or none in the body');
    for (let round = 0; round < REREADS; round++) {
      const { shapes, shape } = await this.#shape(environment, collection);
      const row = shape && (await this.row(on, shape, id));
      if (!row || !shape) {
        if (expected.version !== undefined) throw missing(collection, id, author);
        try {
          const fresh = { id, chosen: true, ...this.#ownership(rest, author, null) };
          const prepared = await this.#prepareNew(on, scope, shapes, shape, fresh);
          return { record: await this.#insert(on, scope, prepared.shape, prepared.fresh), created: true };
        } catch (error) {
          if (error instanceof Problem && error.problem === 'already-exists' && !error.extras.fields && !expected.absent) continue;
          throw error;
        }
      }
      try {
        await this.demand(on, author, { shapes, shape, action: 'update', row });
      } catch (error) {
        if (!(error instanceof Problem) || error.problem !== 'not-found' || expected.version !== undefined) throw error;
        // As for an id that is free, except that it cannot be taken.
        await this.#prepareNew(on, scope, shapes, shape, { id, chosen: true, ...this.#ownership(rest, author, null) });
        throw idTaken(shape, id);
      }
      checkVersion(row, expected, collection);
      const { ownerId, values } = this.#ownership(rest.ownerId === row.ownerId ? without(rest, 'ownerId') : rest, author, row.ownerId);
      const empty = Object.fromEntries(
        [...shape.fields].filter(([, { hidden }]) => author.trusted || !hidden).map(([name]) => [name, null]),
      );
      const record = await this.#replace(on, scope, shapes, shape, row, ownerId, values, 'whole', empty);
      if (record) return { record, created: false };
    }
    throw await this.#conflict(on, scope, id);
  }

  async patch(on: Statements, scope: RecordScope, id: string, patch: JsonObject, expected: Expected): Promise<StoredRecord> {
    const { environment, collection, author } = scope;
    const { plain, changes } = readChange(patch);
    for (let round = 0; round < REREADS; round++) {
      const { shapes, shape } = await this.known(environment, collection);
      const added = changes && (await this.#add(on, scope, shape, id, plain, changes, expected));
      if (added) return added;
      const row = await this.row(on, shape, id, changes !== null);
      if (!row) throw missing(collection, id, author);
      await this.demand(on, author, { shapes, shape, action: 'update', row });
      checkVersion(row, expected, collection);
      const { values, ownerId } = this.#ownership(plain, author, row.ownerId);
      const before = presentRow(shape, row, null, true);
      const merged = Object.fromEntries(
        Object.keys(values).map((name) => [name, mergePatch(own(before, name) ?? null, values[name] as Json)]),
      );
      if (changes) Object.assign(merged, valuesAfter(shape, before, changes));
      const record = await this.#replace(on, scope, shapes, shape, row, ownerId, merged, 'part', {});
      if (record) return record;
    }
    throw await this.#conflict(on, scope, id);
  }

  /**
   * A change that is nothing but sums is one statement, without reading first, where no rule has to see the record.
   * @returns the record as it stands then; null where the change needs more, or the record cannot take it
   */
  async #add(
    on: Statements,
    scope: RecordScope,
    shape: CollectionShape,
    id: string,
    plain: JsonObject,
    changes: FieldChanges,
    expected: Expected,
  ): Promise<StoredRecord | null> {
    const { environment, collection, author, set } = scope;
    if (set || !author.trusted || expected.version !== undefined || expected.absent) return null;
    // What follows from a change is told the record before it.
    if ((await this.parts.recordPorts.hooks.on(environment, collection)).after) return null;
    const sums = sumsOf(shape, plain, changes);
    if (!sums || !(await addToRecord(on, shape, id, sums, new Date(this.parts.now()), author.by))) return null;
    const row = await this.row(on, shape, id);
    return row && (presentRow(shape, row, null, true) as StoredRecord);
  }

  /** The new record has to pass the rule, as the old one did. */
  async #replace(
    on: Statements,
    scope: RecordScope,
    shapes: Shapes,
    shape: CollectionShape,
    row: RecordRow,
    ownerId: string | null,
    values: JsonObject,
    extent: 'whole' | 'part',
    empty: JsonObject,
  ): Promise<StoredRecord | null> {
    const { environment, collection, author, set } = scope;
    const now = this.parts.now();
    const before = presentRow(shape, row, null, true);
    const check = await this.#checkSent(scope, shape, values, extent);
    const checked = { ...empty, ...check.values };
    // A default is for a new record: what the author may not set or see stays when it is not sent.
    const unseen = await unseenIn(on, shapes, shape, before, author, now);
    if (!author.trusted)
      for (const [name, { setBy }] of shape.fields)
        if ((setBy !== undefined || unseen.includes(name)) && !Object.hasOwn(values, name)) delete checked[name];
    const owner = { ownerId, ...ownerIn(set) };
    await demand(on, author, now, { shapes, shape, action: 'update', record: { ...before, ...checked, ...owner } });
    await demandSettable(on, author, now, { shapes, shape, record: before }, changedNames(before, sentOf(checked, set)));
    await this.#demandReferences(on, author, shapes, shape, checked, before);
    needFields(environment, collection, shape, check);
    const record = await updateRecord(on, shape, row, { ...owner, values: checked }, new Date(now), author.by);
    if (!record) return null;
    await this.#follow(on, scope, { action: 'update', id: row.id, before, record });
    const readable = await mayRead(on, shapes, shape, record, author, now);
    const shown = readable ? record : sentBack(record, values);
    return leaveOut(author.trusted ? shown : withoutHidden(shape, shown), await unseenIn(on, shapes, shape, record, author, now));
  }

  async remove(on: Statements, scope: RecordScope, id: string, expected: Expected): Promise<void> {
    const { environment, collection, author } = scope;
    const { shapes, shape } = await this.known(environment, collection);
    for (let round = 0; round < REREADS; round++) {
      const row = await this.row(on, shape, id);
      if (!row) throw missing(collection, id, author);
      await this.demand(on, author, { shapes, shape, action: 'delete', row });
      checkVersion(row, expected, collection);
      if (!(await this.#release(on, scope, shapes, shape, row))) continue;
      await this.#follow(on, scope, { action: 'delete', id, before: presentRow(shape, row, null, true), record: null });
      return;
    }
    throw await this.#conflict(on, scope, id);
  }

  /** Deletes a record and handles references to it; false when another write was faster. */
  async #release(on: Statements, scope: RecordScope, shapes: Shapes, shape: CollectionShape, row: RecordRow): Promise<boolean> {
    const { collection, author } = scope;
    const deletion: Deletion = {
      now: new Date(this.parts.now()),
      by: author.by,
      taken: new Set(),
      follow: (of, gone) =>
        this.#follow(
          on,
          { ...scope, collection: of.name },
          { action: 'delete', id: gone.id, before: presentRow(of, gone, null, true), record: null },
        ),
    };
    try {
      await releaseReferences(on, shapes, collection, row.id, deletion);
      return await deleteRecord(on, shape, row, author.by);
    } catch (error) {
      // Callers who may not read the referring records must not learn their ids.
      if (author.told || !(error instanceof Problem) || error.problem !== 'still-referenced') throw error;
      throw new Problem('still-referenced', `Other records refer to \`${collection}\` ${row.id}, so it cannot be deleted.`, {
        teamDetail: error.detail,
      });
    }
  }

  /**
   * Where refusals reveal nothing, a record that may not be read cannot be referred to either; a user can, by those who know
   * the id.
   */
  async #demandReferences(
    on: Statements,
    author: Author,
    shapes: Shapes,
    shape: CollectionShape,
    values: JsonObject,
    before: JsonObject | null,
  ): Promise<void> {
    if (author.told) return;
    for (const [name, field] of shape.fields) {
      const to = targetOfField(field);
      const id = to !== null && to !== 'users' && Object.hasOwn(values, name) ? values[name] : null;
      const target = typeof id === 'string' && id !== before?.[name] ? shapes.collections.get(to as string) : null;
      if (!target || visibleSql(shapes, target, 'r') === null) continue;
      const row = await this.row(on, target, id as string);
      if (row && (await this.#isHidden(on, author, shapes, target, row))) throw danglingReference(shape, name, id as string);
    }
  }

  /** Whether a record must look missing: where refusals reveal nothing, to those who may not read it. */
  async #isHidden(on: Statements, author: Author, shapes: Shapes, shape: CollectionShape, row: RecordRow): Promise<boolean> {
    return !author.told && !(await mayRead(on, shapes, shape, presentRow(shape, row, null, true), author, this.parts.now()));
  }

  /**
   * Whether the rule lets the author do this.
   * @throws {Problem} access-refused, or not-found where a refusal would reveal too much
   */
  async demand(on: Statements, author: Author, { shapes, shape, action, row }: RowSubject): Promise<void> {
    if (author.trusted) return;
    try {
      await demand(on, author, this.parts.now(), { shapes, shape, action, record: presentRow(shape, row, null, true) });
    } catch (error) {
      if (error instanceof Problem && (await this.#isHidden(on, author, shapes, shape, row))) throw missing(shape.name, row.id, author);
      throw error;
    }
  }

  /** @throws {Problem} collection-unknown */
  async known(environment: Environment, collection: string): Promise<{ shapes: Shapes; shape: CollectionShape }> {
    const { shapes, shape } = await this.#shape(environment, collection);
    if (!shape) throw await this.parts.catalogue.unknown(environment, collection);
    return { shapes, shape };
  }

  async #shape(environment: Environment, collection: string): Promise<{ shapes: Shapes; shape: CollectionShape | null }> {
    const shapes = await this.parts.catalogue.shapes(environment, collection);
    return { shapes, shape: shapes.collections.get(collection) ?? null };
  }

  /** @param locked whether nobody else may write it until the transaction ends */
  async row(on: Statements, shape: CollectionShape, id: string, locked = false): Promise<RecordRow | null> {
    return (await on.rows<RecordRow>(locked ? lockSql(shape) : readSql(shape), [id]))[0] ?? null;
  }

  /** Refuses to show a record. @throws {Problem} access-refused, not-found */
  refuseMissing(author: Author, shapes: Shapes, shape: CollectionShape, id: string): never {
    demandMissing(author, this.parts.now(), shapes, shape);
    throw missing(shape.name, id, author);
  }

  /** A new record as its author is shown it. */
  async #shown(on: Statements, { environment, author }: RecordScope, shape: CollectionShape, record: StoredRecord): Promise<StoredRecord> {
    if (author.trusted) return record;
    const shapes = await this.parts.catalogue.shapes(environment, shape.name);
    return asSeen(on, shapes, shape, record, author, this.parts.now());
  }

  /** Separates the owner from the fields. Only trusted callers may name an owner; others own what they create. */
  #ownership(body: JsonObject, author: Author, present: string | null): Pick<NewRecord, 'ownerId' | 'values'> {
    if (!author.trusted || body.ownerId === undefined) return { ownerId: present ?? (author.trusted ? null : author.userId), values: body };
    const { ownerId, ...values } = body;
    if (ownerId !== null && (typeof ownerId !== 'string' || !/^[0-9a-f-]{36}$/.test(ownerId)))
      throw invalid('body.ownerId', 'The owner must be a user id.', 'a user id, or null');
    return { ownerId, values };
  }

  /** Checks what was sent, with what functions of the team set in place of it; what was sent alone is the author's own affair. */
  async #checkSent(
    { environment, collection, author, set }: RecordScope,
    shape: CollectionShape | null,
    values: JsonObject,
    extent: 'whole' | 'part',
  ): Promise<RecordCheck> {
    if (!set || Object.keys(set).length === 0) return this.#check(environment, collection, shape, values, extent, author);
    if (!author.trusted) await this.#check(environment, collection, shape, sentOf(values, set), 'part', author);
    return this.#check(environment, collection, shape, { ...values, ...without(set, 'ownerId') }, extent, { trusted: true });
  }

  /** Checks values against the fields. @throws {Problem} invalid-input, collection-unknown */
  async #check(
    environment: Environment,
    collection: string,
    shape: CollectionShape | null,
    values: JsonObject,
    extent: 'whole' | 'part',
    author: Pick<Author, 'trusted'>,
  ): Promise<RecordCheck> {
    if (!shape && environment.mode === 'closed') throw unknownCollection(environment, collection);
    const check = checkFields(collection, shape?.fields ?? new Map<string, Field>(), values, {
      mode: environment.mode,
      extent,
      now: this.parts.now(),
      withHidden: author.trusted,
      widening: environment.widening,
    });
    if (check.problems.length === 0) {
      if (check.slowPatterns.length > 0) await demandSlowPatterns(this.parts, collection, check);
      return check;
    }
    throw new Problem('invalid-input', check.problems[0]?.problem ?? '', {
      fields: check.problems.map((problem) => ({ ...problem, path: `body.${problem.path}` })),
    });
  }

  async #conflict(on: Statements, { environment, collection }: RecordScope, id: string): Promise<Problem> {
    const row = await this.row(on, (await this.known(environment, collection)).shape, id);
    return new Problem(
      'version-conflict',
      `${collection}/${id} kept changing while this was being stored; it is at version ${row?.version}. Read it and try again.`,
      row ? { currentVersion: row.version } : {},
    );
  }
}

/** Stops the attempt if the collection or a field must be created first. The access rule has allowed it by then. */
function needFields(environment: Environment, collection: string, shape: CollectionShape | null, { added, widened }: RecordCheck): void {
  if (environment.mode === 'open' && (!shape || added.size > 0 || widened.length > 0)) throw new NeedsFields(collection, added, widened);
}

/** A collection that a first write is about to create. */
const emptyShape = ({ db }: Environment, name: string): CollectionShape => ({
  name,
  db,
  fields: new Map(),
  rules: OWNER_ONLY as AccessRules,
  indexes: [],
  dropped: [],
  indexed: NO_INDEX_COLUMNS,
  createdAt: new Date(0),
  table: '',
});
