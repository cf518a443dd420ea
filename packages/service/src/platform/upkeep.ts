/** What is done without being asked for: every so often, and for each environment on its own. */
import pLimit from 'p-limit';
import type { Logger } from 'pino';
import { isDatabaseAway } from './database/connection.js';
import type { Environment } from './call.js';
import type { Metrics } from './metrics.js';

export const HOUR_MS = 3_600_000;

type Ground = { log: Logger; metrics: Metrics };

/** Runs work that must not end anything else: a failure is logged and counted. A database that is away is neither. */
export async function guarded({ log, metrics }: Ground, work: string, about: object, run: () => unknown): Promise<void> {
  try {
    await run();
  } catch (error) {
    if (isDatabaseAway(error)) return;
    metrics.countUpkeepFailure(work);
    log.error({ err: error, work, ...about }, `upkeep failed: ${work}`);
  }
}

/** Runs work for each environment, a few at a time; one that fails does not keep the others from theirs. */
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

/** Runs work every so often, never twice at the same time. @returns a function that ends that */
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
