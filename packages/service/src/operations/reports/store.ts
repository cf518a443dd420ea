/** Saved reports, as rows. */
import { type NewReport, Problem, type Report } from '@orchard/contract';
import { eq, or } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { reportTable } from './tables.js';

type Row = typeof reportTable.$inferSelect;

const present = ({ actors }: Environment, { id, name, settings, by, at }: Row): Report => ({
  id,
  name,
  ...(storedJson(settings) as Omit<NewReport, 'name'>),
  by: actors.show(by),
  at: at.toISOString(),
});

export async function listReports(environment: Environment): Promise<Report[]> {
  const { db } = environment;
  const rows = await db.orm.select().from(db.table(reportTable)).orderBy(reportTable.name);
  return rows.map((row) => present(environment, row));
}

/** @param idOrName as commands and addresses name it @throws {Problem} not-found */
export async function demandReport(environment: Environment, idOrName: string): Promise<Report> {
  const { db } = environment;
  const [row] = await db.orm
    .select()
    .from(db.table(reportTable))
    .where(or(eq(reportTable.id, idOrName), eq(reportTable.name, idOrName)));
  if (!row) throw new Problem('not-found', `There is no report \`${idOrName}\`. \`orchard report list\` lists them.`);
  return present(environment, row);
}

/** Saves a report; one of the same name is replaced and keeps its id. */
export async function saveReport(environment: Environment, row: Row): Promise<Report> {
  const { db } = environment;
  const { settings, by, at } = row;
  await db.orm.insert(db.table(reportTable)).values(row).onDuplicateKeyUpdate({ set: { settings, by, at } });
  return demandReport(environment, row.name);
}

export async function removeReport({ db }: Environment, id: string): Promise<void> {
  await db.orm.delete(db.table(reportTable)).where(eq(reportTable.id, id));
}
