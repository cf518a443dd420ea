/** Following a list: what is new is printed as it comes. */
import { setTimeout as sleep } from 'node:timers/promises';

const EVERY_MS = 1_000;
/** Items can become visible some seconds after their time. */
const LATE_MS = 10_000;

/**
 * Calls `look` each second until the command is stopped.
 * @param look gets the time from which on to look, and the ids that were there before; returns what is new
 */
export async function follow(look: (since: string, seen: ReadonlySet<string>) => Promise<{ id: string }[]>): Promise<void> {
  const seen = new Set<string>();
  let began = Date.now();
  for (;;) {
    for (const { id } of await look(new Date(began).toISOString(), seen)) seen.add(id);
    began = Math.max(began, Date.now() - LATE_MS);
    await sleep(EVERY_MS);
  }
}
