/** Saving a version of a function: its place, its check, and its row. */
import { type NewFunctionVersion, Problem } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import { isDuplicate } from '../../platform/database/errors.js';
import { storedJson } from '../../platform/database/storedJson.js';

import { demandSchema } from './jsonSchema.js';
import type { Parts } from './parts.js';
import { refused } from './checking.js';
import { demandClock } from './clock.js';
import { COMBINED_FILE, readCombined } from './combining.js';
import type { Ground } from './ground.js';
import { demandTests } from './tests.js';
import type { WholeGround } from './wholeGround.js';
import type { FunctionRow } from './rows.js';
import type { FunctionStore } from './store.js';

/** Each is looked at when an endpoint is called. */
const MOST = 200;
/** What there is one of for each kind of function. */
const EMPTY = { path: '', methods: [], callers: 'servers', input: null, output: null, on: null, clock: null, zone: null, missed: null };
type Place = Pick<
  FunctionRow,
  'kind' | 'path' | 'methods' | 'callers' | 'input' | 'output' | 'on' | 'clock' | 'zone' | 'missed' | 'rights' | 'hosts'
>;

/** What a version says of where it stands, whole. @throws {Problem} invalid-input, collection-unknown */
async function placeOf(parts: Parts, environment: Environment, name: string, body: NewFunctionVersion): Promise<Place> {
  const { kind, rights, hosts } = body;
  const shared = { ...EMPTY, kind, rights, hosts };
  switch (kind) {
    case 'endpoint':
      demandSchema(body.input, 'input');
      demandSchema(body.output, 'output');
      return {
        ...shared,
        path: body.path ?? name,
        methods: body.methods ?? ['GET'],
        callers: body.callers ?? 'signed-in',
        input: body.input ?? null,
        output: body.output ?? null,
      };
    case 'hook':
      if (body.on?.collection) await demandCollection(parts, environment, body.on.collection);
      return { ...shared, on: body.on ?? null };
    case 'schedule': {
      const clock = { clock: body.clock ?? null, zone: body.zone ?? null };
      demandClock(clock);
      return { ...shared, ...clock, missed: body.missed ?? 'once', rights: 'own' };
    }
  }
}

/** @throws {Problem} invalid-input */
async function demandCollection(parts: Parts, environment: Environment, name: string): Promise<void> {
  if (await parts.catalogue.find(environment, name)) return;
  const problem = `There is no collection \`${name}\` in ${environment.app}/${environment.name}.`;
  throw new Problem('invalid-input', problem, {
    fields: [{ path: 'body.on.collection', problem, expected: 'a collection of this environment' }],
  });
}

/** The code of a request, as files; null where there is none. */
export const filesOf = ({ source, files }: Pick<NewFunctionVersion, 'source' | 'files'>): Record<string, string> | null =>
  files ?? (source === undefined ? null : { 'main.ts': source });

/** @returns the function as it is before this version @throws {Problem} already-exists, wrong-state */
async function demandPlace(
  store: FunctionStore,
  environment: Environment,
  name: string,
  { kind, path, methods }: Place,
): Promise<FunctionRow | null> {
  const all = await store.list(environment);
  const before = all.find((one) => one.name === name) ?? null;
  const pattern = (one: string) => one.replace(/\{\w+\}/g, '{}');
  if (before && before.kind !== kind)
    throw new Problem('wrong-state', `${name} is of the kind ${before.kind}. Delete it first, or choose another name.`);
  const twin = all.find(
    (one) =>
      one.name !== name &&
      one.kind === 'endpoint' &&
      kind === 'endpoint' &&
      pattern(one.path) === pattern(path) &&
      (storedJson(one.methods as never) as unknown as string[]).some((method) => methods.includes(method as never)),
  );
  if (twin) throw new Problem('already-exists', `The function ${twin.name} answers at ${path} already.`);
  if (!before && all.length >= MOST)
    throw new Problem('wrong-state', `There are ${MOST} functions here already. Delete one that is no longer needed.`);
  return before;
}

/** The files as they run. @throws {Problem} function-refused */
export async function buildFiles(
  parts: Parts,
  ground: Ground,
  environment: Environment,
  files: Record<string, string>,
  kind: string,
): Promise<Record<string, string>> {
  const combined = files[COMBINED_FILE];
  if (combined === undefined)
    return ground.checker.build(files, await parts.catalogue.all(environment), await parts.functionPorts.types(environment));
  const wrong =
    kind !== 'endpoint'
      ? 'Only an endpoint can do without code.'
      : Object.keys(files).length > 1
        ? 'An endpoint without code has no other file.'
        : null;
  if (wrong) throw refused([{ file: COMBINED_FILE, line: 1, column: 1, message: wrong }]);
  readCombined(combined);
  return files;
}

/** What is wrong with code, without saving it. */
export async function checkFiles(
  parts: Parts,
  ground: Ground,
  environment: Environment,
  { files, kind }: { files: Record<string, string>; kind: string },
): Promise<{ file: string; line: number; column: number; message: string }[]> {
  try {
    await buildFiles(parts, ground, environment, files, kind);
    return [];
  } catch (error) {
    if (!(error instanceof Problem) || error.problem !== 'function-refused') throw error;
    return (error.extras.fields ?? []).map(({ path, problem }) => {
      const [, file = '', line = '1', column = '1'] = /^(.*):(\d+):(\d+)$/.exec(path) ?? [];
      return { file, line: Number(line), column: Number(column), message: problem };
    });
  }
}

/** Saves a version. @throws {Problem} function-refused, already-exists, wrong-state, invalid-input */
export async function saveVersion(
  parts: Parts,
  ground: WholeGround,
  environment: Environment,
  name: string,
  body: NewFunctionVersion,
  by: string,
): Promise<{ row: FunctionRow; isNew: boolean }> {
  const { store } = ground;
  const { use } = body;
  const files = filesOf(body);
  if (!files)
    throw new Problem('invalid-input', 'There is no code.', {
      fields: [{ path: 'body.source', problem: 'It is missing.', expected: 'source, or files' }],
    });
  const place = await placeOf(parts, environment, name, body);
  const before = await demandPlace(store, environment, name, place);
  const built = await buildFiles(parts, ground, environment, files, body.kind);
  await demandTests(ground, environment, { name, ...place, built });
  const now = new Date(parts.now());
  const write = async (tries = 3): Promise<FunctionRow> => {
    const version = (await store.latestVersion(environment, name)) + 1;
    const row: FunctionRow = {
      name,
      ...place,
      part: use ? null : (before?.part ?? null),
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
  if (row.kind === 'schedule') await ground.schedules.arrange(environment.db, environment, row);
  ground.directory.forget(environment);
  return { row, isNew: !before };
}
