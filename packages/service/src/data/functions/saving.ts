/** Saving a version of a function: its place, its check, and its row. */
import { type NewFunctionVersion, Problem } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import { isDuplicate } from '../../platform/database/errors.js';
import { storedJson } from '../../platform/database/storedJson.js';
import type { Ground } from './ground.js';
import type { Parts } from './parts.js';
import type { FunctionRow, FunctionStore } from './store.js';

/** Each is looked at when an endpoint is called. */
const MOST = 200;

/** The code of a request, as files; null where there is none. */
export const filesOf = ({ source, files }: Pick<NewFunctionVersion, 'source' | 'files'>): Record<string, string> | null =>
  files ?? (source === undefined ? null : { 'main.ts': source });

/** @returns the function as it is before this version @throws {Problem} already-exists, wrong-state */
async function demandPlace(
  store: FunctionStore,
  environment: Environment,
  name: string,
  { path, methods }: NewFunctionVersion,
): Promise<FunctionRow | null> {
  const all = await store.list(environment);
  const before = all.find((one) => one.name === name) ?? null;
  const pattern = (one: string) => one.replace(/\{\w+\}/g, '{}');
  const twin = all.find(
    (one) =>
      one.name !== name &&
      pattern(one.path) === pattern(path) &&
      (storedJson(one.methods as never) as unknown as string[]).some((method) => methods.includes(method as never)),
  );
  if (twin) throw new Problem('already-exists', `The function ${twin.name} answers at ${path} already.`);
  if (!before && all.length >= MOST)
    throw new Problem('wrong-state', `There are ${MOST} functions here already. Delete one that is no longer needed.`);
  return before;
}

/** Saves a version. @throws {Problem} function-refused, already-exists, wrong-state, invalid-input */
export async function saveVersion(
  parts: Parts,
  ground: Ground,
  environment: Environment,
  name: string,
  body: NewFunctionVersion,
  by: string,
): Promise<{ row: FunctionRow; isNew: boolean }> {
  const { store } = ground;
  const { source: _source, files: _files, use, ...definition } = body;
  const files = filesOf(body);
  if (!files)
    throw new Problem('invalid-input', 'There is no code.', {
      fields: [{ path: 'body.source', problem: 'It is missing.', expected: 'source, or files' }],
    });
  const before = await demandPlace(store, environment, name, body);
  const built = await ground.checker.build(files, await parts.catalogue.all(environment));
  const now = new Date(parts.now());
  const write = async (tries = 3): Promise<FunctionRow> => {
    const version = (await store.latestVersion(environment, name)) + 1;
    const row: FunctionRow = {
      name,
      ...definition,
      version: use ? version : (before?.version ?? 0),
      createdBy: before?.createdBy ?? by,
      createdAt: before?.createdAt ?? now,
      changedAt: now,
    };
    try {
      await store.save(environment, row, { name, version, files, built: JSON.stringify(built), createdBy: by, createdAt: now });
      return row;
    } catch (error) {
      // Somebody else saved this version in the same moment.
      if (isDuplicate(error) && tries > 1) return write(tries - 1);
      throw error;
    }
  };
  const row = await write();
  ground.directory.forget(environment);
  return { row, isNew: !before };
}
