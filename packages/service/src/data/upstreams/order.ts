import type { Received } from './exchange.js';

/** A call of an upstream, as a function, an app or a member asks for it. */
export type Order = {
  method: string;
  /** Below the upstream's address; begins with a slash. */
  path: string;
  query: Record<string, string>;
  headers: Record<string, string>;
  body: unknown;
  userId: string | null;
  trace: string | null;
};
/** `tries` is 0 for an answer that was kept or recorded. */
export type Answer = Received & { cached: boolean; tries: number };
