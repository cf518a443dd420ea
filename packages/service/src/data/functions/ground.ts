/** What the calls of this room share. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Author } from '../records/author.js';
import type { Checker } from './checking.js';
import type { FunctionDirectory } from './directory.js';
import type { RunLog } from './runLog.js';
import type { Running } from './running.js';
import type { FunctionRow } from './rows.js';
import type { FunctionStore } from './store.js';

export type Ground = {
  store: FunctionStore;
  directory: FunctionDirectory;
  checker: Checker;
  running: Running;
  runLog: RunLog;
};

/** @throws {Problem} not-found */
export async function named({ store }: Ground, environment: Environment, name: string): Promise<FunctionRow> {
  const row = await store.find(environment, name);
  if (!row) throw new Problem('not-found', `There is no function ${name} in ${environment.app}/${environment.name}.`);
  return row;
}

/** Who calls, as a function sees it. */
export const callerOf = ({ trusted, userId, roles }: Author): JsonObject => ({
  kind: trusted ? 'server' : userId ? 'user' : 'client',
  userId,
  roles: [...roles],
});
