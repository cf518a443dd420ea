import type { Backing } from './types.js';

/** Keeps nothing: where a browser lets an app store nothing, as in some private windows. */
export const memoryBacking = (): Backing => ({
  durable: false,
  shared: false,
  load: async () => ({ rows: [], pending: [], conflicts: [], files: [], facts: {} }),
  commit: async () => undefined,
  clear: async () => undefined,
  close: async () => undefined,
});
