/**
 * Locks across instances: rows with an owner and an end. Unlike GET_LOCK and LOCK TABLES they hold on every node of a Galera
 * cluster; one autocommit UPDATE takes one, and one of two concurrent attempts wins.
 */
import { setTimeout as sleep } from 'node:timers/promises';
import { Problem } from '@orchard/contract';
import type { Statements } from './connection.js';
import { outsideUnit } from './unit.js';

/** How long a dead instance can hold up the next one. */
const LEASE_S = 10;
const RENEW_MS = 3_000;
const AGAIN_MS = 40;
const WAIT_S = 10;

export type LeaseOptions = {
  /** How long to wait for a lease. */
  waitS?: number;
};

/** A lease while its work runs. */
export type HeldLease = {
  /** False once another has taken it: this instance was held up for longer than a lease lasts. */
  holds: () => boolean;
};

export class Leases {
  /** Names that this instance holds or requests. */
  readonly #held = new Set<string>();
  #taken = 0;
  /** A lease is taken and released at once, whatever transaction the work is in. */
  private readonly system: Statements;

  constructor(
    system: Statements,
    private readonly instance: string,
  ) {
    this.system = { ...system, change: (sql, values) => outsideUnit(() => system.change(sql, values)) };
  }

  /** For the very first start: creating the tables needs a lease. */
  async prepare(): Promise<void> {
    await this.system.run(
      'CREATE TABLE IF NOT EXISTS leases (name VARCHAR(120) NOT NULL PRIMARY KEY, owner VARCHAR(64) NOT NULL, `until` DATETIME(3) NOT NULL)',
    );
  }

  /**
   * Runs `work` while no other work runs under this name.
   * @throws {Problem} busy, when the lease is not available in time
   */
  async with<T>(name: string, work: (lease: HeldLease) => Promise<T>, { waitS = WAIT_S }: LeaseOptions = {}): Promise<T> {
    const owner = await this.#wait(name, waitS);
    let holds = true;
    const renew = async () => {
      holds = await this.#renew(name, owner);
    };
    // While the database is away nobody else can take it either.
    const heartbeat = setInterval(() => void renew().catch(() => undefined), RENEW_MS);
    try {
      return await work({ holds: () => holds });
    } finally {
      clearInterval(heartbeat);
      await this.#giveBack(name, owner);
    }
  }

  async #wait(name: string, waitS: number): Promise<string> {
    const owner = `${this.instance}.${++this.#taken}`;
    const until = performance.now() + waitS * 1000;
    for (;;) {
      // Leases held here need no request.
      if (!this.#held.has(name)) {
        this.#held.add(name);
        const taken = await this.#take(name, owner).catch((error: unknown) => {
          this.#held.delete(name);
          throw error;
        });
        if (taken) return owner;
        this.#held.delete(name);
      }
      if (performance.now() > until)
        throw new Problem('busy', `Another change of the same thing took longer than ${waitS} s. Nothing was changed.`, {
          retryAfterS: 5,
        });
      await sleep(AGAIN_MS);
    }
  }

  /** Clears the owner, so that a renewal in flight does not take it again. A lease that cannot be released expires. */
  async #giveBack(name: string, owner: string): Promise<void> {
    await this.system
      .change("UPDATE leases SET owner = '', `until` = UTC_TIMESTAMP(3) WHERE name = ? AND owner = ?", [name, owner])
      .catch(() => undefined);
    this.#held.delete(name);
  }

  /** The database's clock decides: clocks of instances may differ. */
  async #take(name: string, owner: string): Promise<boolean> {
    const { affectedRows } = await this.system.change(
      `UPDATE leases SET owner = ?, \`until\` = UTC_TIMESTAMP(3) + INTERVAL ${LEASE_S} SECOND WHERE name = ? AND \`until\` <= UTC_TIMESTAMP(3)`,
      [owner, name],
    );
    if (affectedRows === 1) return true;
    const made = await this.system.change(
      `INSERT IGNORE INTO leases (name, owner, \`until\`) VALUES (?, ?, UTC_TIMESTAMP(3) + INTERVAL ${LEASE_S} SECOND)`,
      [name, owner],
    );
    return made.affectedRows === 1;
  }

  async #renew(name: string, owner: string): Promise<boolean> {
    const { affectedRows } = await this.system.change(
      `UPDATE leases SET \`until\` = UTC_TIMESTAMP(3) + INTERVAL ${LEASE_S} SECOND WHERE name = ? AND owner = ?`,
      [name, owner],
    );
    return affectedRows === 1;
  }
}
