/** Errors by cause, and who met them. Raw SQL: counting is an upsert with conditions. */
import { createHash } from 'node:crypto';
import { type ErrorGroup, Problem } from '@orchard/contract';
import { type AppError, causeOf, isVersionFrom, placeOf } from '@orchard/core';
import { eq } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { type Columns, type ListGround, type ListRequest, listRows, plainColumns } from '../../platform/database/listing.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { errorPersonTable, errorTable } from './tables.js';

type Row = typeof errorTable.$inferSelect & { people: number };
const COLUMNS: Columns = new Map(
  plainColumns({ text: ['id', 'name', 'message', 'place', 'settledIn'], number: ['count'], time: ['firstAt', 'lastAt', 'settledAt'] }),
);
const MOST_VERSIONS = 50;

const selectErrors = (db: EnvironmentDatabase) =>
  `SELECT *, (SELECT COUNT(*) FROM ${db.of(errorPersonTable)} p WHERE p.errorId = e.id) AS people FROM ${db.of(errorTable)} e`;

export const presentError = ({ cause: _, versions, firstAt, lastAt, settledAt, backAt, people, ...row }: Row): ErrorGroup => ({
  ...row,
  people: Number(people),
  versions: storedJson(versions),
  firstAt: firstAt.toISOString(),
  lastAt: lastAt.toISOString(),
  settledAt: settledAt?.toISOString() ?? null,
  state: backAt ? 'come back' : settledAt ? 'settled' : 'open',
});

export const listErrors = ({ db }: Pick<Environment, 'db'>, request: ListRequest, ground: ListGround) =>
  listRows(
    db,
    { select: selectErrors(db), columns: COLUMNS, sort: '-lastAt', tie: { field: 'id', descending: true } },
    request,
    ground,
    presentError,
  );

/** @throws {Problem} not-found */
export async function demandError({ db }: Pick<Environment, 'db'>, id: string): Promise<ErrorGroup> {
  const [row] = await db.rows<Row>(`${selectErrors(db)} WHERE id = ?`, [id]);
  if (!row) throw new Problem('not-found', `There is no error ${id}. \`orchard error list\` lists them.`);
  return presentError(row);
}

export async function settleError({ db }: Pick<Environment, 'db'>, id: string, version: string | undefined, at: Date): Promise<void> {
  await db.orm
    .update(db.table(errorTable))
    .set({ settledAt: at, settledIn: version ?? null, backAt: null })
    .where(eq(errorTable.id, id));
}

export type Met = { error: AppError; version: string | null; person: string | null; at: Date };

/** Counts an error with its cause. @returns the id of its group */
export async function countError(
  { db }: Pick<Environment, 'db'>,
  newId: () => string,
  { error, version, person, at }: Met,
): Promise<string> {
  const cause = createHash('sha256').update(causeOf(error)).digest('hex');
  const place = placeOf(error).slice(0, 300);
  await db.change(
    `INSERT INTO ${db.of(errorTable)} (id, cause, name, message, place, count, versions, firstAt, lastAt) VALUES (?, ?, ?, ?, ?, 1, ?, ?, ?)
     ON DUPLICATE KEY UPDATE count = count + 1, lastAt = GREATEST(lastAt, VALUES(lastAt)), message = VALUES(message), place = VALUES(place)`,
    [newId(), cause, error.name.slice(0, 200), error.message.slice(0, 1_000), place, JSON.stringify(version ? [version] : []), at, at],
  );
  const [row] = await db.rows<Row>(`SELECT *, 0 AS people FROM ${db.of(errorTable)} WHERE cause = ?`, [cause]);
  const { id, settledAt, settledIn, backAt } = row as Row;
  const versions: string[] = storedJson((row as Row).versions);
  const isBack =
    settledAt !== null &&
    backAt === null &&
    at > settledAt &&
    (settledIn === null || version === null || isVersionFrom(version, settledIn));
  const isNewVersion = version !== null && !versions.includes(version) && versions.length < MOST_VERSIONS;
  if (isBack || isNewVersion)
    await db.change(`UPDATE ${db.of(errorTable)} SET versions = ?, backAt = ? WHERE id = ?`, [
      JSON.stringify(isNewVersion ? [...versions, version] : versions),
      isBack ? at : backAt,
      id,
    ]);
  if (person !== null)
    await db.change(`INSERT IGNORE INTO ${db.of(errorPersonTable)} (errorId, person, at) VALUES (?, ?, ?)`, [id, person, at]);
  return id;
}
