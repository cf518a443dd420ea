import { type NewSheet, operations, Problem, type Sheet } from '@orchard/contract';
import { listReports } from '../../operations/reports/store.js';
import { authorOf, bind, type Call, type Environment, environmentOf, type Naming, type Route } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';
import { type SheetRow, SheetStore } from './store.js';

const MOST = 100;

export function sheetRoutes(parts: Platform): Route[] {
  const own = operations.sheets;
  const store = new SheetStore();
  const found = async (call: Naming<{ sheet: string }>) => {
    const row = await store.find(environmentOf(call), call.params.sheet);
    if (!row) throw new Problem('not-found', `There is no sheet \`${call.params.sheet}\`. \`orchard sheet list\` lists them.`);
    return row;
  };
  const rowOf = (call: Pick<Call, 'member' | 'holder' | 'user'> & { body: NewSheet }, id: string): SheetRow => ({
    id,
    name: call.body.name,
    items: JSON.stringify(call.body.items),
    by: authorOf(call as Call),
    at: new Date(parts.now()),
  });
  const audited = {
    read: async (call: Naming<{ sheet: string }>) => {
      const row = await store.find(environmentOf(call), call.params.sheet);
      return row ? present(environmentOf(call), row) : null;
    },
  };
  return [
    bind(own.list, async (call) => {
      const environment = environmentOf(call);
      return { body: { items: await presentAll(environment, await store.list(environment)) } };
    }),
    bind(own.read, async (call) => ({ body: await present(environmentOf(call), await found(call)) })),
    bind(own.add, async (call) => {
      const environment = environmentOf(call);
      if ((await store.count(environment)) >= MOST)
        throw new Problem('wrong-state', `There are ${MOST} sheets here already. Remove one first.`);
      await demandReports(environment, call.body);
      await demandFreeName(store, environment, call.body.name, null);
      const row = rowOf(call, parts.newId());
      await store.add(environment, row);
      return { body: await present(environment, row) };
    }),
    bind(
      own.change,
      async (call) => {
        const environment = environmentOf(call);
        const before = await found(call);
        await demandReports(environment, call.body, before);
        await demandFreeName(store, environment, call.body.name, before.id);
        const row = rowOf(call, before.id);
        await store.replace(environment, row);
        return { body: await present(environment, row) };
      },
      audited,
    ),
    bind(
      own.remove,
      async (call) => {
        await store.remove(environmentOf(call), (await found(call)).id);
        return { body: undefined };
      },
      audited,
    ),
  ];
}

const itemsOf = ({ items }: SheetRow): NewSheet['items'] => JSON.parse(items);

async function presentAll(environment: Environment, rows: readonly SheetRow[]): Promise<Sheet[]> {
  const names = new Map((await listReports(environment)).map(({ id, name }) => [id, name]));
  return rows.map((row) => ({
    id: row.id,
    name: row.name,
    items: itemsOf(row).map(({ report, width }) => ({ report, name: names.get(report) ?? null, width })),
    by: environment.actors.show(row.by),
    at: row.at.toISOString(),
  }));
}

const present = async (environment: Environment, row: SheetRow): Promise<Sheet> => (await presentAll(environment, [row]))[0] as Sheet;

/** @param before what stood there may stay, even where the report was deleted meanwhile @throws {Problem} invalid-input */
async function demandReports(environment: Environment, { items }: NewSheet, before?: SheetRow): Promise<void> {
  const known = new Set(
    [...(await listReports(environment)), ...(before ? itemsOf(before) : [])].map((one) => ('id' in one ? one.id : one.report)),
  );
  for (const [i, { report }] of items.entries())
    if (!known.has(report))
      throw new Problem('invalid-input', `There is no report ${report}. \`orchard report list\` lists them.`, {
        fields: [{ path: `body.items.${i}.report`, problem: 'There is no such report.', expected: 'the id of a saved report' }],
      });
}

async function demandFreeName(store: SheetStore, environment: Environment, name: string, ownId: string | null): Promise<void> {
  const other = await store.find(environment, name);
  if (other && other.id !== ownId) throw new Problem('already-exists', `There is a sheet \`${name}\` already. Choose another name.`);
}
