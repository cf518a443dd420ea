import { operations, Problem, type Standing, type StandingDefinition } from '@orchard/contract';
import { parseFilter, writeFilterText } from '@orchard/core';
import { demandContent } from '../notifications/composing.js';
import { authorOf, bind, type Environment, environmentOf, type Naming, type Route } from '../../platform/call.js';
import { readingFilter } from '../../platform/database/listing.js';
import { contentOf, DueRecords } from './due.js';
import type { Parts } from './parts.js';
import { definitionOf, rowOf, type StandingRow, type StandingStore } from './store.js';

/** Each is looked for every half minute. */
const MOST = 100;
const COUNTED_MS = 30 * 86_400_000;

export function standingRoutes(parts: Parts, store: StandingStore): Route[] {
  const own = operations.standing;
  const due = new DueRecords(parts);
  const presentAll = (environment: Environment, rows: readonly StandingRow[]) =>
    store.present(environment, rows, new Date(parts.now() - COUNTED_MS));
  const present = async (environment: Environment, row: StandingRow) => (await presentAll(environment, [row]))[0] as Standing;
  async function named(environment: Environment, id: string): Promise<StandingRow> {
    const row = await store.find(environment, id);
    if (!row) throw new Problem('not-found', `There is no standing notification ${id} in ${environment.app}/${environment.name}.`);
    return row;
  }
  /** @throws {Problem} invalid-input, malformed-filter, collection-unknown */
  async function checked(environment: Environment, body: StandingDefinition): Promise<StandingDefinition> {
    // As text, so that the dates that are due can be added to it.
    const filter = body.filter ? readingFilter(() => writeFilterText(parseFilter(body.filter as string))) : undefined;
    const standing = { ...body, ...(filter ? { filter } : {}) };
    await due.demandSound(environment, standing);
    demandContent({ ...contentOf(standing), ...withoutVariables(standing) }, standing.way);
    return standing;
  }
  const audited = {
    read: async (call: Naming<{ standing: string }>) => {
      const row = await store.find(environmentOf(call), call.params.standing);
      return row ? definitionOf(row) : null;
    },
  };
  return [
    bind(own.list, async (call) => {
      const environment = environmentOf(call);
      return { body: { items: await presentAll(environment, await store.list(environment)) } };
    }),
    bind(own.add, async (call) => {
      const environment = environmentOf(call);
      const standing = await checked(environment, call.body);
      if ((await store.list(environment)).length >= MOST)
        throw new Problem('wrong-state', `There are ${MOST} standing notifications here already. Delete one that is no longer needed.`);
      const now = new Date(parts.now());
      const row: StandingRow = {
        id: parts.newId(),
        ...rowOf(standing),
        createdBy: authorOf(call),
        createdAt: now,
        changedAt: now,
        checkedTo: now,
        problem: null,
      };
      await store.add(environment, row);
      return { body: await present(environment, row) };
    }),
    bind(
      own.change,
      async (call) => {
        const environment = environmentOf(call);
        const { id } = await named(environment, call.params.standing);
        const now = new Date(parts.now());
        await store.change(environment, id, {
          ...rowOf(await checked(environment, call.body)),
          changedAt: now,
          checkedTo: now,
          problem: null,
        });
        return { body: await present(environment, await named(environment, id)) };
      },
      audited,
    ),
    bind(
      own.remove,
      async (call) => {
        const { id } = await named(environmentOf(call), call.params.standing);
        await store.remove(environmentOf(call), id);
        return { body: undefined };
      },
      audited,
    ),
    bind(own.preview, async (call) => {
      const standing = await checked(environmentOf(call), call.body);
      return { body: { items: await due.next(environmentOf(call), standing, call.query.limit) } };
    }),
    bind(own.next, async (call) => {
      const standing = definitionOf(await named(environmentOf(call), call.params.standing));
      return { body: { items: await due.next(environmentOf(call), standing, call.query.limit) } };
    }),
    bind(own.sent, async (call) => {
      const { id } = await named(environmentOf(call), call.params.standing);
      return { body: await store.sent(environmentOf(call), id, call.query, parts) };
    }),
  ];
}

/** Texts as they count for a way: filled from a record, they are not empty. */
const withoutVariables = ({ title, body }: StandingDefinition) => ({
  ...(title ? { title: 'x' } : {}),
  ...(body ? { body: 'x' } : {}),
  link: undefined,
  picture: undefined,
  html: undefined,
  platforms: undefined,
  locales: undefined,
  second: undefined,
});
