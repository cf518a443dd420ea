/** Writes what members, tokens and the service change, each entry in the transaction of its change. */
import { AUDIT_KINDS, type AuditKind, type AuditOutcome, Problem } from '@orchard/contract';
import { type Actor, differenceOf, maskSecrets, writeActor } from '@orchard/core';
import { actorOf, type Call, type Environment } from '../call.js';
import type { Statements } from '../database/connection.js';
import type { EnvironmentDatabase } from '../database/environmentDatabase.js';
import { INSTALLATION, type Servers } from '../database/servers.js';
import { addEntry, lockHead } from './auditStore.js';
import { ChainKey, type Head } from './chain.js';

/** What an entry says of a change. */
export type Change = {
  action: string;
  kind: AuditKind;
  subject: string;
  before?: unknown;
  after?: unknown;
  outcome?: AuditOutcome;
};
/** Who makes a change, from where. */
export type Origin = {
  actor: Actor;
  address: string | null;
  request: string | null;
  /** The environment it is about, if one. */
  environment: Pick<Environment, 'id' | 'app' | 'name' | 'db'> | null;
};
/** A change whose documents before and after are read around it. */
export type Watched<T> = {
  kind: AuditKind;
  /** The id of the operation, or what else it is called. */
  action: string;
  subject: string | ((result: T) => string);
  /** Its document now; null if there is none. */
  read?: () => Promise<unknown>;
  /** What the entry says of the result, where that is not the document. */
  after?: (result: T) => unknown;
};

/** What is known before a change that is no single transaction. */
type Begun = { begunSubject: string /** What the caller sent. */; asked: unknown };

export const originOf = (call: Pick<Call, 'member' | 'user' | 'holder' | 'request' | 'id' | 'environment'>): Origin => ({
  actor: actorOf(call),
  address: call.request.ip ?? null,
  request: call.id,
  environment: call.environment,
});

/** A document, or null where there is none. */
export async function orNone<T>(document: Promise<T>): Promise<T | null> {
  try {
    return await document;
  } catch (error) {
    if (error instanceof Problem && error.status === 404) return null;
    throw error;
  }
}

type Place = { id: string; db: EnvironmentDatabase };
const LONGEST = 4_000_000;

export class Audit {
  readonly key: ChainKey;

  constructor(
    private readonly servers: Servers,
    secretKey: Buffer,
    private readonly clock: { now: () => number; newId: () => string },
  ) {
    this.key = new ChainKey(secretKey);
  }

  /** Stands for a personal value in an entry: the same for the same value, and of no use to anyone who reads it. */
  fingerprint = (text: string): string => this.key.fingerprintOf(text);

  /** The database that holds a kind of thing. */
  placeOf(kind: AuditKind, environment: Origin['environment']): Place {
    if (AUDIT_KINDS[kind] === 'environment' && environment) return { id: environment.id, db: environment.db };
    return { id: INSTALLATION, db: this.servers.system };
  }

  /**
   * Makes a change and writes its entry, all in one transaction. Where documents are read, the end of the chain is locked
   * first, so that they are exact; otherwise last, so that others do not wait for the work. A change that changes nothing
   * has no entry.
   */
  watch<T>(origin: Origin, { kind, action, subject, read, after }: Watched<T>, change: () => Promise<T>): Promise<T> {
    const place = this.placeOf(kind, origin.environment);
    return place.db.unit(async () => {
      const first = read ? await lockHead(place.db, place.db) : null;
      const before = (await read?.()) ?? null;
      const result = await change();
      const now = after ? after(result) : ((await read?.()) ?? null);
      const difference = read && !after ? differenceOf(before, now) : { before, after: now };
      if (difference)
        await this.#add(place.db, place, first ?? (await lockHead(place.db, place.db)), origin, {
          action,
          kind,
          subject: typeof subject === 'function' ? subject(result) : subject,
          ...difference,
        });
      return result;
    });
  }

  /** Writes an entry in a transaction that is open already. */
  async append(on: Statements, origin: Origin, change: Change): Promise<void> {
    const place = this.placeOf(change.kind, origin.environment);
    await this.#add(on, place, await lockHead(on, place.db), origin, change);
  }

  /** Writes an entry on its own. */
  note(origin: Origin, change: Change): Promise<void> {
    return this.placeOf(change.kind, origin.environment).db.transaction((on) => this.append(on, origin, change));
  }

  /**
   * Makes a change that is no single transaction, such as one of tables: an entry before it says what was begun, another
   * what became of it.
   */
  async accompany<T>(origin: Origin, watched: Watched<T> & Begun, change: () => Promise<T>): Promise<T> {
    const { kind, action, subject, read, after, asked, begunSubject } = watched;
    const before = (await read?.()) ?? null;
    const common = { action, kind, subject: begunSubject };
    await this.note(origin, { ...common, after: asked, outcome: 'begun' });
    try {
      const result = await change();
      const now = after ? after(result) : ((await read?.()) ?? null);
      const named = { ...common, subject: typeof subject === 'function' ? subject(result) : subject };
      await this.note(origin, { ...named, ...(differenceOf(before, now) ?? { before: null, after: null }) });
      return result;
    } catch (error) {
      const why = error instanceof Problem ? { problem: error.problem, detail: error.detail } : { problem: 'unexpected' };
      await this.note(origin, { ...common, after: why, outcome: 'failed' });
      throw error;
    }
  }

  async #add(
    on: Statements,
    { id, db }: Place,
    head: Head,
    { actor, address, request, environment }: Origin,
    change: Change,
  ): Promise<void> {
    const entry = {
      number: head.number + 1,
      id: this.clock.newId(),
      at: new Date(this.clock.now()).toISOString(),
      actor: writeActor(actor),
      address: address?.slice(0, 45) ?? null,
      request,
      app: environment?.app ?? null,
      environment: environment?.name ?? null,
      action: change.action,
      kind: change.kind,
      subject: change.subject.slice(0, 300),
      outcome: change.outcome ?? 'done',
      before: textOf(change.before),
      after: textOf(change.after),
    };
    const mac = this.key.macOf(id, entry, head.mac);
    await addEntry(on, db, { ...entry, mac }, this.key.sealOf(id, { number: entry.number, mac }));
  }
}

/** A document as an entry holds it: secrets masked, and no longer than a statement takes. */
function textOf(document: unknown): string | null {
  if (document === null || document === undefined) return null;
  const text = maskSecrets(JSON.stringify(document));
  return text.length <= LONGEST ? text : JSON.stringify({ omitted: `${text.length} characters` });
}
