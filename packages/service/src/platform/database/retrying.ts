/** Work on the database that is done again: after a conflict, a deadlock, or when a node of a cluster went away. */
import { setTimeout as sleep } from 'node:timers/promises';
import { isConflict, isDatabaseAway, isDeadlock } from './errors.js';
import type { DatabaseNodes } from './nodes.js';

export const MAX_ATTEMPTS = 16;
const MOST_WAITS = 4;
/** Waits before an attempt that follows a conflict: at once first, then longer, so that those who conflict part. */
export const stepBack = (attempt: number): Promise<void> =>
  attempt < 2 ? Promise.resolve() : sleep(Math.random() * Math.min(250, 2 ** attempt));

/** What the server answered to COMMIT was not heard: nobody knows whether it is stored. */
const unknownOutcome = new WeakSet<object>();

/** @throws what COMMIT answered; an answer that was not heard is marked */
export async function commit(send: () => Promise<unknown>): Promise<void> {
  try {
    await send();
  } catch (error) {
    if (isDatabaseAway(error)) unknownOutcome.add(error as object);
    throw error;
  }
}

/** Runs a transaction again when it was a deadlock victim; and on another node of a cluster, when its own went away before COMMIT. */
export async function retried<T>(nodes: DatabaseNodes, work: () => Promise<T>): Promise<T> {
  for (let attempt = 1; ; attempt++) {
    try {
      return await work();
    } catch (error) {
      if (attempt === MAX_ATTEMPTS) throw error;
      // A lock that is waited for takes a while each time.
      if (isDeadlock(error) && (isConflict(error) || attempt < MOST_WAITS)) {
        await stepBack(attempt);
        continue;
      }
      if (!nodes.isCluster || !isDatabaseAway(error) || unknownOutcome.has(error as object)) throw error;
      await nodes.look();
    }
  }
}
