/** What moves within an installation and to another one have in common. */
import { setTimeout as sleep } from 'node:timers/promises';
import { Problem } from '@orchard/contract';
import { COLLECTION_ROWS } from '../../data/collections/catalogueStore.js';
import type { Environment } from '../../platform/call.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import type { ChangedRow } from './captureDdl.js';
import type { MoveRow } from './store.js';

/** Changes that are brought over at a time. */
export const SOME = 1_000;
/** With fewer left than this, writes are held and the rest is brought over. */
export const FEW = 200;
/** How long writes are held at most, should this instance die meanwhile. */
export const HOLD_MS = 8_000;
/** After this long the hold is given up: it is tried again later. */
export const PATIENCE_MS = 1_500;
export const HOLD_TRIES = 20;
export const AGAIN_MS = 1_000;
/** How often copying starts over because collections changed their shape. */
export const MOST_STARTS = 20;

/** Another instance has taken it over, or the service stops. */
export class HandedOver extends Error {}
/** Writes could not be held in time: what is left takes too long, or a transaction does not end. */
export class NotYet extends Error {}

export type Tell = (doing: string) => Promise<void>;
export type Course = {
  environment: Environment;
  row: MoveRow;
  from: EnvironmentDatabase;
  tell: Tell;
  /** Whether a collection has changed since the triggers were written at the new place. */
  triggers: { areOld: boolean };
};

/** Notes what changes that are brought over mean for the triggers there. */
export function noteTriggers({ triggers }: Course, changes: readonly ChangedRow[]): void {
  if (changes.some(({ table }) => table === COLLECTION_ROWS)) triggers.areOld = true;
}

/** After a switch the other instances look for so long before they have seen it. */
const SEEN_MS = 500;

/**
 * Holds changes of collections, so that what is checked of their tables stays true until the switch is over everywhere.
 * @throws NotYet where one is under way
 */
export async function withSchemaHeld<T>({ db }: Pick<Environment, 'db'>, work: () => Promise<T>): Promise<T> {
  try {
    return await db.withLease('schema', async () => {
      const done = await work();
      await sleep(SEEN_MS);
      return done;
    });
  } catch (error) {
    if (error instanceof Problem && error.problem === 'busy') throw new NotYet('Waiting for a change of a collection');
    throw error;
  }
}
