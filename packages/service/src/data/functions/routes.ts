import { type FunctionShown, operations, Problem } from '@orchard/contract';
import { orNone } from '../../platform/audit/audit.js';
import { authorOf, bind, type Environment, environmentOf, type Naming, type Route } from '../../platform/call.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { declarationsOf } from './checking.js';
import { documentOf } from './document.js';
import { endpointRoutes } from './endpoints.js';
import { named } from './ground.js';
import type { Parts } from './parts.js';
import { checkFiles, saveVersion } from './saving.js';
import { secretRoutes } from './secrets.js';
import type { FunctionRow } from './rows.js';
import { tryFunction } from './trial.js';
import type { WholeGround } from './wholeGround.js';

export function functionRoutes(parts: Parts, ground: WholeGround): Route[] {
  const own = operations.functions;
  const { store } = ground;
  const shown = async (environment: Environment, row: FunctionRow): Promise<FunctionShown> =>
    (await store.present(environment, [row], parts.now()))[0] as FunctionShown;
  const audited = {
    read: async (call: Naming<{ name: string }>) => {
      const row = await orNone(named(ground, environmentOf(call), call.params.name));
      if (!row) return null;
      const { runs: _, ...document } = await shown(environmentOf(call), row);
      return document;
    },
  };
  return [
    bind(own.list, async (call) => {
      const environment = environmentOf(call);
      return { body: { items: await store.present(environment, await store.list(environment), parts.now()) } };
    }),
    bind(own.read, async (call) => ({
      body: await shown(environmentOf(call), await named(ground, environmentOf(call), call.params.name)),
    })),
    bind(
      own.put,
      async (call) => {
        const environment = environmentOf(call);
        const { row, isNew } = await saveVersion(parts, ground, environment, call.params.name, call.body, authorOf(call));
        return { body: await shown(environment, row), status: isNew ? 201 : 200 };
      },
      { ...audited, as: 'apart' },
    ),
    bind(
      own.remove,
      async (call) => {
        await named(ground, environmentOf(call), call.params.name);
        await store.remove(environmentOf(call), call.params.name);
        ground.directory.forget(environmentOf(call));
        return { body: undefined };
      },
      audited,
    ),
    bind(own.versions, async (call) => {
      const environment = environmentOf(call);
      const row = await named(ground, environment, call.params.name);
      const items = (await store.versions(environment, row.name)).map(({ version, files, createdBy, createdAt }) => ({
        version,
        files: storedJson(files as never) as unknown as Record<string, string>,
        createdBy: environment.actors.show(createdBy),
        createdAt: createdAt.toISOString(),
        inForce: version === row.version,
      }));
      return { body: { items } };
    }),
    bind(own.use, async (call) => ({ body: await shown(environmentOf(call), await use(parts, ground, call)) }), audited),
    bind(own.again, async (call) => {
      const environment = environmentOf(call);
      const { name } = await named(ground, environment, call.params.name);
      await ground.runLog.flush();
      return { body: { key: await ground.calls.again(environment, name, call.params.run) } };
    }),
    bind(own.try, async (call) => ({ body: await tryFunction(parts, ground, call) })),
    bind(own.check, async (call) => ({ body: { errors: await checkFiles(parts, ground, environmentOf(call), call.body) } })),
    bind(own.reach, async (call) => {
      const environment = environmentOf(call);
      const more = await parts.functionPorts.types(environment);
      return { body: { declarations: `${declarationsOf(await parts.catalogue.all(environment))}\n${more}` } };
    }),
    bind(own.runs, async (call) => {
      const { name } = await named(ground, environmentOf(call), call.params.name);
      await ground.runLog.flush();
      return { body: await store.runs(environmentOf(call), name, call.query, parts) };
    }),
    bind(own.document, async (call) => ({ body: await documentOf(parts, ground, environmentOf(call)) })),
    ...secretRoutes(parts, ground),
    ...endpointRoutes(parts, ground),
  ];
}

type UseCall = Parameters<Parameters<typeof bind<typeof operations.functions.use>>[1]>[0];

/** Puts a version in force, for all or for some. @throws {Problem} not-found, wrong-state */
async function use(parts: Parts, ground: WholeGround, call: UseCall): Promise<FunctionRow> {
  const environment = environmentOf(call);
  const row = await named(ground, environment, call.params.name);
  const { version, users, share } = call.body;
  if (version > 0 && !(await ground.store.version(environment, row.name, version)))
    throw new Problem('not-found', `${row.name} has no version ${version}.`);
  const isPart = users !== undefined || share !== undefined;
  if (isPart && (version === 0 || row.version === 0))
    throw new Problem('wrong-state', 'A version holds for some callers beside one that holds for all others. Put that one in force first.');
  const changed: FunctionRow = {
    ...row,
    ...(isPart ? { part: { version, users: users ?? [], share: share ?? 0 } } : { version, part: null }),
    changedAt: new Date(parts.now()),
  };
  await ground.store.save(environment, changed, null);
  if (row.kind === 'schedule') await ground.schedules.arrange(environment.db, environment, changed);
  ground.directory.forget(environment);
  return changed;
}
