/** Many actions in one call: all or nothing, or each on its own. */
import { setImmediate } from 'node:timers/promises';
import { type AcrossAction, Problem, type BatchAction, type BatchResult } from '@orchard/contract';
import { isPlainObject, type JsonObject } from '@orchard/core';
import type { Statements } from '../../platform/database/connection.js';
import type { Parts } from './parts.js';
import { WriteGate } from './gate.js';
import type { AskedWrite, HookedWrite } from './ports.js';
import type { RecordScope, Records } from './records.js';
import type { CollectionShape } from '../collections/shape.js';
import { insertRecords, type NewRecord, writeProblem } from './writeStore.js';

/** After this many actions the event loop gets a turn. */
const BREATHER = 50;

type Prepared = { at: number; shape: CollectionShape; fresh: NewRecord };
/** An action, in which collection by whom, and what hooks made of it; or how they refused it. */
type Placed = { scope: RecordScope; action: BatchAction; hooked?: HookedWrite | Problem | null };

export class Batches {
  readonly #gate: WriteGate;

  constructor(
    private readonly parts: Parts,
    private readonly records: Records,
  ) {
    this.#gate = new WriteGate(parts, records);
  }

  /** Actions on one collection, with hooks asked. */
  one(scope: RecordScope, actions: readonly BatchAction[]): Promise<Placed[]> {
    return this.#ask(actions.map((action) => ({ scope, action })));
  }

  /** Actions on several collections, with hooks asked; new records may refer to those created before them by name. @throws {Problem} invalid-input */
  across({ environment, author }: Omit<RecordScope, 'collection'>, actions: readonly AcrossAction[]): Promise<Placed[]> {
    const named = new Map<string, string>();
    const placed = actions.map(({ collection, ...action }, at): Placed => {
      const scope = { environment, collection, author };
      if (action.action === 'delete') return { scope, action };
      const record = withNamed(action.record, named, at);
      if (action.action !== 'create') return { scope, action: { ...action, record } };
      const { as, ...creation } = action;
      if (as === undefined) return { scope, action: { ...creation, record } };
      if (named.has(as)) throw invalidAt(at, 'as', `An earlier action creates \`${as}\` already.`, 'a name of its own');
      const { id } = this.records.identify(record, author);
      named.set(as, id);
      return { scope, action: { ...creation, record: { ...record, id } } };
    });
    return this.#ask(placed);
  }

  /** One after another, as they will be done. */
  async #ask(placed: Placed[]): Promise<Placed[]> {
    for (const one of placed) {
      const { environment, collection, author } = one.scope;
      if (!(await this.parts.recordPorts.hooks.on(environment, collection)).before) continue;
      try {
        one.hooked = await this.#gate.ask({ environment, author }, askedOf(collection, one.action));
      } catch (error) {
        if (!(error instanceof Problem)) throw error;
        one.hooked = error;
      }
    }
    return placed;
  }

  /**
   * Does the actions in their order, inside one transaction of the caller. Consecutive creations are one statement.
   * @throws {Problem} of the first action that fails, when `together`
   */
  async run(on: Statements, placed: readonly Placed[], together: boolean): Promise<BatchResult[]> {
    const actions = placed.map(({ action }) => action);
    const results: BatchResult[] = [];
    let creations: Prepared[] = [];
    let into = placed[0]?.scope as RecordScope;
    const flush = async () => {
      if (creations.length > 0) await this.#insert(on, into, creations, actions, together, results);
      creations = [];
    };
    for (const [at, { scope, action, hooked }] of placed.entries()) {
      // Checks alone need no I/O; other calls get their turn between them.
      if (at % BREATHER === BREATHER - 1) await setImmediate();
      if (action.action !== 'create' || hooked || scope.collection !== into.collection) await flush();
      into = scope;
      try {
        if (hooked instanceof Problem) throw hooked;
        if (hooked) results[at] = await this.#apart(on, together, () => this.#hooked(on, scope, action, hooked));
        else if (action.action === 'create') creations.push({ at, ...(await this.records.prepareCreate(on, scope, action.record)) });
        else results[at] = await this.#apart(on, together, () => this.#one(on, scope, action));
      } catch (error) {
        results[at] = failed(error, at, actions, together);
      }
    }
    await flush();
    return results;
  }

  /** On its own, a failing action rolls back only itself. */
  async #apart<T>(on: Statements, together: boolean, work: () => Promise<T>): Promise<T> {
    if (together) return work();
    await on.run('SAVEPOINT action');
    try {
      return await work();
    } catch (error) {
      await on.run('ROLLBACK TO SAVEPOINT action');
      throw error;
    }
  }

  async #insert(
    on: Statements,
    scope: RecordScope,
    creations: Prepared[],
    actions: readonly BatchAction[],
    together: boolean,
    results: BatchResult[],
  ): Promise<void> {
    const now = new Date(this.parts.now());
    const { shape } = creations[0] as Prepared;
    const insert = (some: Prepared[]) =>
      this.#apart(on, together, async () => {
        const fresh = some.map((one) => one.fresh);
        const versions = await insertRecords(on, shape, fresh, now, scope.author.by);
        await this.records.created(on, scope, shape, fresh, now, versions);
        return versions;
      });
    try {
      const versions = await insert(creations);
      for (const { at, fresh } of creations) results[at] = { status: 201, id: fresh.id, version: versions.get(fresh.id) ?? 1 };
    } catch (error) {
      const [first] = creations as [Prepared];
      const problem = writeProblem(error, shape, first.fresh);
      if (!(problem instanceof Problem)) throw error;
      if (creations.length === 1) {
        results[first.at] = failed(problem, first.at, actions, together);
        return;
      }
      // The failing one is found by halving.
      const half = creations.length >> 1;
      for (const some of [creations.slice(0, half), creations.slice(half)]) await this.#insert(on, scope, some, actions, together, results);
    }
  }

  async #hooked(on: Statements, scope: RecordScope, action: BatchAction, hooked: HookedWrite): Promise<BatchResult> {
    const asked = askedOf(scope.collection, action);
    const { record, created } = await this.#gate.do(on, scope.environment, scope.author, asked, hooked);
    return record ? { status: created ? 201 : 200, id: record.id, version: record.version } : { status: 204, id: asked.id };
  }

  async #one(on: Statements, scope: RecordScope, action: Exclude<BatchAction, { action: 'create' }>): Promise<BatchResult> {
    const expected = action.ifVersion === undefined ? {} : { version: action.ifVersion };
    switch (action.action) {
      case 'put': {
        const { record, created } = await this.records.put(on, scope, action.id, action.record, expected);
        return { status: created ? 201 : 200, id: record.id, version: record.version };
      }
      case 'patch': {
        const record = await this.records.patch(on, scope, action.id, action.record, expected);
        return { status: 200, id: record.id, version: record.version };
      }
      case 'delete':
        await this.records.remove(on, scope, action.id, expected);
        return { status: 204, id: action.id };
    }
  }
}

const WRITES = { create: 'create', put: 'put', patch: 'change', delete: 'remove' } as const;

function askedOf(collection: string, action: BatchAction): AskedWrite {
  const expected = 'ifVersion' in action && action.ifVersion !== undefined ? { version: action.ifVersion } : {};
  return {
    action: WRITES[action.action],
    collection,
    id: 'id' in action ? action.id : '',
    record: 'record' in action ? action.record : {},
    expected,
  };
}

/** A record with the ids of what earlier actions created in place of their names. */
function withNamed(record: JsonObject, named: ReadonlyMap<string, string>, at: number): JsonObject {
  return Object.fromEntries(
    Object.entries(record).map(([field, value]) => {
      if (!isPlainObject(value) || Object.keys(value).join() !== '_new') return [field, value];
      const id = named.get(String(value._new));
      if (id === undefined)
        throw invalidAt(at, `record.${field}`, `No earlier action creates ${JSON.stringify(value._new)}.`, 'the `as` of an action before');
      return [field, id];
    }),
  );
}

const invalidAt = (at: number, path: string, problem: string, expected: string) =>
  new Problem('invalid-input', `Action ${at + 1}: ${problem} Nothing of the batch was stored.`, {
    fields: [{ path: `body.actions.${at}.${path}`, problem, expected }],
  });

/** The result of an action that failed; thrown when nothing is to be stored then. */
function failed(error: unknown, at: number, actions: readonly BatchAction[], together: boolean): BatchResult {
  if (!(error instanceof Problem)) throw error;
  if (!together) return { status: error.status, problem: error.toDocument() };
  const fields = error.extras.fields?.map((field) => ({ ...field, path: field.path.replace(/^body/, `body.actions.${at}.record`) }));
  throw new Problem(
    error.problem,
    `Action ${at + 1} of ${actions.length} (${actions[at]?.action}): ${error.detail} Nothing of the batch was stored.`,
    { ...error.extras, ...(fields ? { fields } : {}) },
  );
}
