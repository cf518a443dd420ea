/**
 * The gate through which records are written: functions of the team that stand before the write are asked, then one attempt stores it with
 * what they add, and what follows from it. No connection and no lock waits for their code.
 */
import { Problem } from '@orchard/contract';
import { hasFieldChanges, isOnlySums, type JsonObject } from '@orchard/core';
import type { Statements } from '../../platform/database/connection.js';
import type { Environment } from '../../platform/call.js';
import type { Author } from './author.js';
import type { Expected, StoredRecord } from './forms.js';
import type { Parts } from './parts.js';
import type { AskedWrite, HookedWrite } from './ports.js';
import { isReferred } from './referenceStore.js';
import type { RecordScope, Records } from './records.js';

/** How often hooks are asked again when the record they saw has changed. */
const ROUNDS = 4;
export type WritePlace = { environment: Environment; author: Author };
/** `record` is null for a deletion. */
export type Written = { record: StoredRecord | null; created: boolean };

/** What hooks saw is not so any more. */
class Outdated extends Problem {
  constructor(collection: string, id: string) {
    super('version-conflict', `${collection}/${id} changed while functions of the team looked at it. Send this again.`);
  }
}
const isConflict = (error: unknown): boolean =>
  error instanceof Problem && (error.problem === 'version-conflict' || (error.problem === 'already-exists' && !error.extras.fields));

export class WriteGate {
  constructor(
    private readonly parts: Parts,
    readonly records: Records,
  ) {}

  /**
   * Asks hooks, and stores the write.
   * @param transaction whether `store` needs one, besides what the write itself needs
   * @param store wraps what is done in the transaction, such as by an entry of the audit
   */
  async write<T>(
    place: WritePlace,
    asked: AskedWrite,
    transaction: boolean,
    store: (on: Statements, write: () => Promise<Written>) => Promise<T>,
    told?: (notice: string) => void,
  ): Promise<T> {
    const { environment, author } = place;
    for (let round = 1; ; round++) {
      const hooked = await this.ask(place, asked);
      const together = transaction || hooked !== null || (await this.#needsTransaction(place, asked));
      try {
        return await this.records.attempt(
          environment,
          together,
          (on) => store(on, () => this.do(on, environment, author, asked, hooked)),
          told,
        );
      } catch (error) {
        if (!(error instanceof Outdated) || round >= ROUNDS) throw error;
      }
    }
  }

  /** @returns null where no hook stands on it */
  ask({ environment, author }: WritePlace, asked: AskedWrite): Promise<HookedWrite | null> {
    return this.parts.recordPorts.hooks.before(environment, author, asked);
  }

  async #needsTransaction({ environment, author }: WritePlace, { action, collection, record }: AskedWrite): Promise<boolean> {
    if ((await this.parts.recordPorts.hooks.on(environment, collection)).after) return true;
    // What depends on the record as it stands is changed under a lock; sums alone are one statement, where no rule is asked.
    if (action === 'change') return hasFieldChanges(record) && !(isOnlySums(record) && author.trusted);
    return action === 'remove' && isReferred(await this.parts.catalogue.shapes(environment, collection), collection);
  }

  /** Does a write that hooks were asked about, inside a transaction of the caller. */
  async do(on: Statements, environment: Environment, author: Author, asked: AskedWrite, hooked: HookedWrite | null): Promise<Written> {
    if (!hooked) return this.#store(on, { environment, collection: asked.collection, author }, asked, asked.expected);
    for (const relied of hooked.relies) await this.#demandVersion(on, environment, relied);
    const scope = { environment, collection: asked.collection, author, set: hooked.set };
    const isOwn = asked.expected.version === undefined && !asked.expected.absent;
    try {
      const written = await this.#store(on, scope, asked, isOwn ? hooked.saw : asked.expected);
      for (const { author: by, asked: more, hooked: theirs } of hooked.joined) await this.do(on, environment, by, more, theirs);
      return { ...written, record: written.record && withAnswer(written.record, hooked.answer) };
    } catch (error) {
      if (isOwn && isConflict(error) && asked.action !== 'create') throw new Outdated(asked.collection, asked.id);
      throw error;
    }
  }

  async #demandVersion(
    on: Statements,
    environment: Environment,
    { collection, id, version }: { collection: string; id: string; version: number },
  ): Promise<void> {
    const { shape } = await this.records.known(environment, collection);
    if ((await this.records.row(on, shape, id, true))?.version !== version) throw new Outdated(collection, id);
  }

  async #store(on: Statements, scope: RecordScope, { action, id, record }: AskedWrite, expected: Expected): Promise<Written> {
    switch (action) {
      case 'create':
        return { record: await this.records.create(on, scope, record), created: true };
      case 'put':
        return this.records.put(on, scope, id, record, expected);
      case 'change':
        return { record: await this.records.patch(on, scope, id, record, expected), created: false };
      case 'remove':
        await this.records.remove(on, scope, id, expected);
        return { record: null, created: false };
    }
  }
}

/** Members that hooks add to an answer never take the place of the record's own. */
const withAnswer = (record: StoredRecord, answer: JsonObject): StoredRecord => ({ ...answer, ...record });
