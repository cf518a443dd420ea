/** Keeps counted sets of people no older than some minutes, while they are used. */
import { Problem } from '@orchard/contract';
import { nearest } from '@orchard/core';
import type { Behaviour } from '@orchard/core/insight';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { forgetSets, hashOf, latestSets, noteUse, writeSet } from './store.js';

const MINUTE_MS = 60_000;
const FRESH_MS = 5 * MINUTE_MS;
/** Counted anew before they are too old, for so long after somebody asked for them. */
const DUE_MS = 4 * MINUTE_MS;
const WARM_MS = 24 * 60 * MINUTE_MS;
const FORGOTTEN_MS = 7 * WARM_MS;
const NOTE_MS = MINUTE_MS;

export class BehaviourSets {
  /** What is being counted, so that two who ask at once wait for one count. */
  readonly #counting = new Map<string, Promise<void>>();

  constructor(private readonly parts: Parts) {}

  /**
   * Sees to it that these sets are there, and no older than five minutes.
   * @returns when the oldest was counted
   * @throws {Problem} malformed-filter for an event that never came, or a condition that cannot be read
   */
  async prepare(environment: Environment, wanted: readonly Behaviour[]): Promise<Date | null> {
    if (wanted.length === 0) return null;
    await this.#demandKnown(environment, wanted);
    const now = this.parts.now();
    const sets = await latestSets(environment.db);
    const used = wanted.map(hashOf).filter((hash) => now - (sets.get(hash)?.usedAt.getTime() ?? now) > NOTE_MS);
    await noteUse(environment.db, used, new Date(now));
    const old = wanted.filter((one) => now - (sets.get(hashOf(one))?.countedAt?.getTime() ?? 0) > FRESH_MS);
    for (const one of old) await this.#count(environment, one, now);
    const after = old.length > 0 ? await latestSets(environment.db) : sets;
    const counted = wanted.flatMap((one) => after.get(hashOf(one))?.countedAt?.getTime() ?? []);
    return counted.length === 0 ? null : new Date(Math.min(...counted));
  }

  #count(environment: Environment, behaviour: Behaviour, usedAt: number): Promise<void> {
    const key = `${environment.id} ${hashOf(behaviour)}`;
    let counting = this.#counting.get(key);
    if (!counting) {
      counting = this.#write(environment, behaviour, usedAt).finally(() => this.#counting.delete(key));
      this.#counting.set(key, counting);
    }
    return counting;
  }

  async #write(environment: Environment, behaviour: Behaviour, usedAt: number): Promise<void> {
    const counted = new Date(this.parts.now());
    const answer = await this.parts.questions.times({ environment }, behaviour);
    await writeSet(environment.db, behaviour, answer, { used: new Date(usedAt), counted });
  }

  async #demandKnown({ db }: Environment, wanted: readonly Behaviour[]): Promise<void> {
    const names = (await this.parts.plan.kinds(db)).map(({ name }) => name);
    const stranger = wanted.find(({ event }) => !names.includes(event));
    if (stranger)
      throw new Problem(
        'malformed-filter',
        `There is no event \`${stranger.event}\`${nearest(stranger.event, names) || '.'} \`orchard event list\` lists what came.`,
      );
  }

  /** Counts anew what somebody may ask for again, and forgets the rest. */
  async refresh(environment: Environment): Promise<void> {
    const now = this.parts.now();
    for (const { event, days, filter, usedAt, countedAt } of (await latestSets(environment.db)).values()) {
      if (now - usedAt.getTime() < WARM_MS && now - (countedAt?.getTime() ?? 0) > DUE_MS)
        await this.#count(environment, { event, days, filter }, usedAt.getTime());
    }
    await forgetSets(environment.db, new Date(now - FORGOTTEN_MS));
  }
}
