/** Background work: at intervals, and for each environment separately. */
import pLimit from 'p-limit';
import type { Logger } from 'pino';
import { isDatabaseAway } from './database/errors.js';
import type { Environment } from './call.js';
import type { Metrics } from './metrics.js';

export const HOUR_MS = 3_600_000;

type Ground = { log: Logger; metrics: Metrics };

/** Runs work whose failure must not affect anything else: it is logged and counted. An unavailable database is neither. */
export async function guarded({ log, metrics }: Ground, work: string, about: object, run: () => unknown): Promise<void> {
  try {
    await run();
  } catch (error) {
    if (isDatabaseAway(error)) return;
    metrics.countUpkeepFailure(work);
    log.error({ err: error, work, ...about }, `upkeep failed: ${work}`);
  }
}

/** Runs work for each environment, a few at a time; a failure in one does not affect the others. */
export async function forEachEnvironment(
  ground: Ground,
  work: string,
  environments: readonly Environment[],
  run: (environment: Environment) => Promise<unknown>,
  { atOnce = 4, stopping = () => false }: { atOnce?: number; stopping?: () => boolean } = {},
): Promise<void> {
  const limit = pLimit(atOnce);
  await limit.map(environments, async (environment) => {
    if (stopping()) return;
    const { id, app, name } = environment;
    await guarded(ground, work, { environment: id, app, name }, () => run(environment));
  });
}

/**
 * Runs work at intervals, never twice at the same time.
 * @returns a function that stops it
 */
export function every(ground: Ground, ms: number, work: string, run: () => unknown): () => void {
  let busy = false;
  const timer = setInterval(async () => {
    if (busy) return;
    busy = true;
    await guarded(ground, work, {}, run);
    busy = false;
  }, ms);
  return () => clearInterval(timer);
}
