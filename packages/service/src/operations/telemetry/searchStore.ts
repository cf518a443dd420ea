/** Saved searches of requests and log entries, for the whole team. */
import { Problem, type SavedSearch } from '@orchard/contract';
import { eq } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { searchTable } from './tables.js';

type Row = typeof searchTable.$inferSelect;

const present = ({ actors }: Environment, { id, list, name, query, by, at }: Row): SavedSearch => ({
  id,
  list: list as SavedSearch['list'],
  name,
  query,
  by: actors.show(by),
  at: at.toISOString(),
});

export async function listSearches(environment: Environment): Promise<SavedSearch[]> {
  const { db } = environment;
  const rows = await db.orm.select().from(db.table(searchTable)).orderBy(searchTable.name);
  return rows.map((row) => present(environment, row));
}

/** Saves a search; one of the same name is replaced. */
export async function saveSearch(environment: Environment, row: Row): Promise<SavedSearch> {
  const { db } = environment;
  const { query, by, at } = row;
  await db.orm.insert(db.table(searchTable)).values(row).onDuplicateKeyUpdate({ set: { query, by, at } });
  const kept = (await listSearches(environment)).find(({ list, name }) => list === row.list && name === row.name);
  return kept as SavedSearch;
}

/** @throws {Problem} not-found */
export async function removeSearch({ db }: Environment, id: string): Promise<void> {
  const [{ affectedRows }] = await db.orm.delete(db.table(searchTable)).where(eq(searchTable.id, id));
  if (affectedRows === 0) throw new Problem('not-found', `There is no saved search ${id}.`);
}
