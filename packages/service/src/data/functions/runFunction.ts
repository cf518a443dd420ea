/** Runs of functions in force, whatever they run for: the version that holds for the author, with the function's rights, noted afterwards. */
import type { JsonObject } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Author } from '../records/author.js';
import { functionAuthor, originOf } from './authors.js';
import { type InForce, versionFor } from './directory.js';
import type { Ground } from './ground.js';
import type { Parts } from './parts.js';
import type { Joining } from './reaching.js';
import type { RunReport } from './running.js';
import { eventFor, type RunEnd } from './runLog.js';
import { secretOf } from './secrets.js';

export type Occasion = {
  author: Author;
  /** How deep hooks have triggered hooks, for what the function writes. */
  depth: number;
  /** What it runs for, in words. */
  cause: string;
  /** What the handler is called with, and what of it is kept of a run that did not end well. */
  argument: JsonObject;
  event: JsonObject;
  joining?: Joining;
  /** Of a recorded call that the run answers, and has in common with it. */
  id?: string;
  /** Of a run that a job makes. */
  job?: { attempt: number; call: string; order: JsonObject };
};

/** @param ended what is noted of its end, where that is more than the run's own */
export async function runFunction<End extends RunEnd>(
  parts: Parts,
  ground: Ground,
  environment: Environment,
  found: InForce,
  { author, depth, cause, argument, event, joining, id = parts.newId(), job }: Occasion,
  ended: (report: RunReport) => End,
): Promise<{ report: RunReport; end: End }> {
  const { row, hosts } = found;
  const { version, program } = versionFor(found, author.userId);
  const at = new Date(parts.now());
  const report = await ground.running.run({
    environment,
    name: row.name,
    program,
    hosts,
    author: functionAuthor(row, author, depth),
    userId: author.userId,
    secret: secretOf(ground, environment),
    argument,
    ...(joining ? { joining } : {}),
  });
  const end = ended(report);
  const { request, trace } = originOf(author);
  const { userId } = author;
  ground.runLog.add(
    environment,
    { id, name: row.name, version, at, cause, request, trace, userId, order: eventFor(end, event), ...job },
    end,
  );
  return { report, end };
}
