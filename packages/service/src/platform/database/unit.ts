/**
 * A unit of work: one transaction over everything a call does at one database server, however many stores take part.
 * Rooms need not pass a transaction on; what must not happen before the commit waits for it.
 */
import { AsyncLocalStorage } from 'node:async_hooks';
import type { Pool, PoolConnection } from 'mysql2/promise';

type How = 'execute' | 'query';

export class Unit {
  readonly #after: (() => void)[] = [];
  /** The statement in progress; a connection runs one at a time. */
  #last: Promise<unknown> = Promise.resolve();
  #savepoints = 0;

  constructor(
    /** The pool whose statements the unit takes in. */
    readonly pool: Pool,
    private readonly connection: PoolConnection,
    private readonly run: (connection: PoolConnection, how: How, sql: string, values: unknown[]) => Promise<unknown>,
  ) {}

  /** Runs a statement in the transaction, after those that were given before. */
  statement(how: How, sql: string, values: unknown[]): Promise<unknown> {
    const next = this.#last.then(() => this.run(this.connection, how, sql, values));
    this.#last = next.catch(() => undefined);
    return next;
  }

  /** A transaction within the unit: if it fails, only what it did is undone. */
  async within<T>(work: () => Promise<T>): Promise<T> {
    const name = `s${++this.#savepoints}`;
    await this.statement('query', `SAVEPOINT ${name}`, []);
    try {
      return await work();
    } catch (error) {
      // A deadlock has rolled back the whole transaction, savepoints included.
      await this.statement('query', `ROLLBACK TO SAVEPOINT ${name}`, []).catch(() => undefined);
      throw error;
    }
  }

  afterCommit(work: () => void): void {
    this.#after.push(work);
  }

  async commit(): Promise<void> {
    await this.statement('query', 'COMMIT', []);
  }

  async rollback(): Promise<void> {
    await this.statement('query', 'ROLLBACK', []).catch(() => this.connection.destroy());
  }

  /** Called outside of the unit, once it is committed. */
  committed(): void {
    for (const work of this.#after) work();
  }
}

const current = new AsyncLocalStorage<Unit | null>();

/** The unit of the running code, if its statements go to this pool. */
export function unitOn(pool: Pool): Unit | null {
  const unit = current.getStore();
  return unit?.pool === pool ? unit : null;
}

/** Runs work outside of any unit. */
export const outsideUnit = <T>(work: () => T): T => current.run(null, work);
export const insideUnit = <T>(unit: Unit, work: () => T): T => current.run(unit, work);

export const isInUnit = (): boolean => Boolean(current.getStore());

/** Clears what is cached of a change: at once, and again when it is committed, since it may have been read meanwhile. */
export function clearing(clear: () => void): void {
  clear();
  if (isInUnit()) afterCommit(clear);
}

/** Runs work once the unit of the running code is committed; at once where there is none. */
export function afterCommit(work: () => void): void {
  const unit = current.getStore();
  if (unit) unit.afterCommit(() => outsideUnit(work));
  else work();
}
