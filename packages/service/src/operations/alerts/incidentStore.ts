/** Incidents and what happened in them. */
import { type Happening, type Incident, Problem } from '@orchard/contract';
import type { EnvironmentCondition } from '@orchard/core';
import { and, asc, eq, gt, isNull } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { isDuplicate } from '../../platform/database/errors.js';
import { type Columns, type ListGround, type ListRequest, listRows, plainColumns } from '../../platform/database/listing.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { alertLinkTable, incidentHappeningTable, incidentTable } from './tables.js';

type Place = Pick<Environment, 'db'>;
type Stored = typeof incidentTable.$inferSelect;
export type IncidentRow = Omit<Stored, 'condition'> & { condition: EnvironmentCondition };
export type HappeningKind = Happening['kind'];

const COLUMNS: Columns = new Map([
  ...plainColumns({ text: ['id', 'subject', 'title', 'condition'], time: ['openedAt', 'closedAt', 'acknowledgedAt'] }),
]);

const read = (row: Stored): IncidentRow => ({
  ...row,
  condition: row.condition as EnvironmentCondition,
  progress: storedJson(row.progress),
});

export const presentIncident = (
  { actors }: Pick<Environment, 'actors'>,
  { id, title, subject, condition, openedAt, closedAt, acknowledgedAt, acknowledgedBy }: Stored,
): Incident => ({
  id,
  title,
  subject,
  condition: condition as EnvironmentCondition,
  openedAt: openedAt.toISOString(),
  closedAt: closedAt?.toISOString() ?? null,
  acknowledgedAt: acknowledgedAt?.toISOString() ?? null,
  acknowledgedBy: acknowledgedBy === null ? null : actors.show(acknowledgedBy),
});

export function listIncidents(environment: Environment, request: ListRequest, ground: ListGround) {
  const { db } = environment;
  const listed = {
    select: `SELECT * FROM ${db.of(incidentTable)}`,
    columns: COLUMNS,
    sort: '-openedAt',
    tie: { field: 'id', descending: true },
  };
  return listRows(db, listed, request, ground, (row: Stored) => presentIncident(environment, row));
}

/** @returns null when one of the subject is open already */
export async function addIncident({ db }: Place, row: Stored): Promise<IncidentRow | null> {
  try {
    await db.orm.insert(db.table(incidentTable)).values(row);
    return read(row);
  } catch (error) {
    if (isDuplicate(error)) return null;
    throw error;
  }
}

export async function openIncident({ db }: Place, subject: string): Promise<IncidentRow | null> {
  const [row] = await db.orm.select().from(db.table(incidentTable)).where(eq(incidentTable.openSubject, subject));
  return row ? read(row) : null;
}

/** The open incidents nobody has acknowledged, of those a member was sent an alert about and may acknowledge. */
export async function unacknowledgedOf({ db }: Place, memberId: string, now: Date): Promise<string[]> {
  const [incident, link] = [db.table(incidentTable), db.table(alertLinkTable)];
  const rows = await db.orm
    .selectDistinct({ id: incident.id })
    .from(incident)
    .innerJoin(link, eq(link.incidentId, incident.id))
    .where(and(isNull(incident.closedAt), isNull(incident.acknowledgedAt), eq(link.memberId, memberId), gt(link.expiresAt, now)));
  return rows.map(({ id }) => id);
}

/** @throws {Problem} not-found */
export async function demandIncident({ db }: Place, id: string): Promise<IncidentRow> {
  const [row] = await db.orm.select().from(db.table(incidentTable)).where(eq(incidentTable.id, id));
  if (!row) throw new Problem('not-found', `There is no incident ${id}. \`orchard incident list\` lists them.`);
  return read(row);
}

export async function updateIncident({ db }: Place, id: string, set: Partial<Stored>): Promise<void> {
  await db.orm.update(db.table(incidentTable)).set(set).where(eq(incidentTable.id, id));
}

/** Acknowledges an incident once. @returns whether it was not before */
export async function acknowledgeOnce({ db }: Place, id: string, by: string, at: Date): Promise<boolean> {
  const [{ affectedRows }] = await db.orm
    .update(db.table(incidentTable))
    .set({ acknowledgedAt: at, acknowledgedBy: by })
    .where(and(eq(incidentTable.id, id), isNull(incidentTable.acknowledgedAt)));
  return affectedRows === 1;
}

export async function addHappening(
  { db }: Place,
  incidentId: string,
  happening: { at: Date; kind: HappeningKind; text: string; by: string },
): Promise<void> {
  await db.orm.insert(db.table(incidentHappeningTable)).values({ incidentId, ...happening, text: happening.text.slice(0, 2_100) });
}

export async function happeningsOf({ db, actors }: Pick<Environment, 'db' | 'actors'>, incidentId: string): Promise<Happening[]> {
  const rows = await db.orm
    .select()
    .from(db.table(incidentHappeningTable))
    .where(eq(incidentHappeningTable.incidentId, incidentId))
    .orderBy(asc(incidentHappeningTable.at), asc(incidentHappeningTable.number));
  return rows.map(({ at, kind, text, by }) => ({ at: at.toISOString(), kind: kind as HappeningKind, text, by: actors.show(by) }));
}

export async function addLink({ db }: Place, link: typeof alertLinkTable.$inferSelect): Promise<void> {
  await db.orm.insert(db.table(alertLinkTable)).values(link);
}

export async function findLink({ db }: Place, tokenHash: string, now: Date) {
  const [row] = await db.orm
    .select()
    .from(db.table(alertLinkTable))
    .where(and(eq(alertLinkTable.tokenHash, tokenHash), gt(alertLinkTable.expiresAt, now)));
  return row ?? null;
}
