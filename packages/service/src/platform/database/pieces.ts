/** Reads rows of unknown size: many at a time when they are small, few when they are large. */
import { currentCost, type DatabaseCost } from './connection.js';

/** Most bytes that are read in one piece, unless one row alone is larger. */
const MOST_BYTES = 16_000_000;

class TooMuch extends Error {}

/**
 * Runs work that reads up to `most` rows; when their bytes are too many, again with fewer.
 */
export async function readInPieces<T>(most: number, work: (limit: number) => Promise<T>): Promise<T> {
  for (let limit = most; ; limit = Math.max(1, limit >> 2)) {
    try {
      return await within(limit === 1 ? Number.POSITIVE_INFINITY : MOST_BYTES, () => work(limit));
    } catch (error) {
      if (!(error instanceof TooMuch)) throw error;
    }
  }
}

async function within<T>(bytes: number, work: () => Promise<T>): Promise<T> {
  const outer = currentCost.getStore();
  const own: DatabaseCost = {
    databaseUs: 0,
    statements: 0,
    read: (read) => {
      if (read > bytes) throw new TooMuch();
    },
  };
  try {
    return await currentCost.run(own, work);
  } finally {
    if (outer) {
      outer.databaseUs += own.databaseUs;
      outer.statements += own.statements;
    }
  }
}
