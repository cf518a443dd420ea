import { type FunctionShown, operations, Problem } from '@orchard/contract';
import { orNone } from '../../platform/audit/audit.js';
import { authorOf, bind, type Environment, environmentOf, type Naming, type Route } from '../../platform/call.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { endpointRoutes } from './endpoints.js';
import { type Ground, named } from './ground.js';
import type { Parts } from './parts.js';
import { saveVersion } from './saving.js';
import { secretRoutes } from './secrets.js';
import type { FunctionRow } from './store.js';
import { tryFunction } from './trial.js';

export function functionRoutes(parts: Parts, ground: Ground): Route[] {
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
    bind(
      own.use,
      async (call) => {
        const environment = environmentOf(call);
        const row = await named(ground, environment, call.params.name);
        const { version } = call.body;
        if (version > 0 && !(await store.version(environment, row.name, version)))
          throw new Problem('not-found', `${row.name} has no version ${version}.`);
        const changed = { ...row, version, changedAt: new Date(parts.now()) };
        await store.save(environment, changed, null);
        ground.directory.forget(environment);
        return { body: await shown(environment, changed) };
      },
      audited,
    ),
    bind(own.try, async (call) => ({ body: await tryFunction(parts, ground, call) })),
    bind(own.runs, async (call) => {
      const { name } = await named(ground, environmentOf(call), call.params.name);
      await ground.runLog.flush();
      return { body: await store.runs(environmentOf(call), name, call.query, parts) };
    }),
    ...secretRoutes(parts, ground),
    ...endpointRoutes(ground),
  ];
}
