/** Audit entries across the databases that somebody may see. */
import { type AuditEntry, type AuditKind, type AuditOutcome, allOperations, Problem, SERVICE_ACTIONS } from '@orchard/contract';
import { roleReaches } from '../../platform/access/memberDirectory.js';
import { type AuditRow, selectEntries } from '../../platform/audit/auditStore.js';
import type { Environment, SignedInMember } from '../../platform/call.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { type Columns, type ListPart, type ListRequest, listAcross, plainColumns } from '../../platform/database/listing.js';
import { INSTALLATION } from '../../platform/database/servers.js';
import type { Platform } from '../../platform/platform.js';

/** An actor is stored as its kind and id. */
const ACTOR_ID = "SUBSTRING_INDEX(actor, ':', -1)";
const COLUMNS: Columns = new Map([
  ...plainColumns({
    text: ['id', 'app', 'environment', 'action', 'kind', 'subject', 'outcome', 'address', 'request'],
    number: ['number'],
    time: ['at'],
  }),
  ['actor', { sql: ACTOR_ID, kind: 'text' }],
  ['actorKind', { sql: "SUBSTRING_INDEX(actor, ':', 1)", kind: 'text' }],
]);
const LISTED = { columns: COLUMNS, sort: '-at', tie: { field: 'id', descending: true } };
const SUMMARIES = new Map([...allOperations.map(({ id, summary }) => [id, summary] as const), ...Object.entries(SERVICE_ACTIONS)]);

const UUID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i;

/** Rows carry the database they come from. */
type Row = AuditRow & { database: string };
/** A database with a chain. */
export type Place = { id: string; db: EnvironmentDatabase; environment: Pick<Environment, 'app' | 'name'> | null };
type Wanted = { app?: string | undefined; environment?: string | undefined; by?: string | undefined };
type Condition = NonNullable<ListPart['condition']>;

/** The installation's database, and every environment's. */
export async function allPlaces({ directory, servers }: Platform): Promise<[Place, ...Place[]]> {
  const environments = (await directory.allEnvironments()).sort(
    (a, b) => a.app.localeCompare(b.app) || a.createdAt.getTime() - b.createdAt.getTime(),
  );
  return [
    { id: INSTALLATION, db: servers.system, environment: null },
    ...environments.map((one) => ({ id: one.id, db: one.db, environment: one })),
  ];
}

/**
 * The databases with entries that a member may see, each with the condition for those: owners see all, maintainers what
 * is about their environments.
 * @throws {Problem} role-insufficient; not-found for a name that nobody has
 */
export async function visibleParts(parts: Platform, member: SignedInMember, wanted: Wanted): Promise<ListPart[]> {
  const roles = await parts.members.rolesOf(member);
  const [installation, ...others] = await allPlaces(parts);
  const theirs = others.filter(({ id, environment }) => roleReaches(roles.get(id) ?? 'viewer', 'maintainer') && fits(environment, wanted));
  if (!member.owner && theirs.length === 0)
    throw new Problem('role-insufficient', 'Reading the audit of an environment needs the role maintainer there. Ask an owner.');
  const who = wanted.by === undefined ? [] : [bySql(parts, wanted.by)];
  return [partOf(installation, [member.owner ? namedSql(wanted) : aboutSql(theirs), ...who]), ...theirs.map((place) => partOf(place, who))];
}

const fits = (at: Place['environment'], { app, environment }: Wanted): boolean =>
  (app === undefined || at?.app === app) && (environment === undefined || at?.name === environment);

function partOf(place: Place, conditions: readonly Condition[]): ListPart {
  const part = { on: place.db, select: selectEntries(place.db, place.id) };
  if (conditions.length === 0) return part;
  const sql = conditions.map((one) => `(${one.sql})`).join(' AND ');
  return { ...part, condition: { sql, values: conditions.flatMap(({ values }) => values) } };
}

/** Entries by the members and tokens with a name, or by an id, which may be of somebody who is gone. */
function bySql({ actors }: Pick<Platform, 'actors'>, by: string): Condition {
  const known = actors.idsOf(by);
  if (known.length === 0 && !UUID.test(by))
    throw new Problem('not-found', `There is no member or token named ${by}. Those who are gone are found by their id.`);
  const ids = known.length ? known : [by];
  return { sql: `${ACTOR_ID} IN (${ids.map(() => '?').join(', ')})`, values: ids };
}

/** Entries of the installation about one app or environment. */
function namedSql(wanted: Wanted): Condition {
  const named = (['app', 'environment'] as const).filter((name) => wanted[name] !== undefined);
  return { sql: named.map((name) => `${name} = ?`).join(' AND ') || 'TRUE', values: named.map((name) => wanted[name]) };
}

/** Entries of the installation about these environments. */
const aboutSql = (theirs: readonly Place[]): Condition => ({
  sql: theirs.map(() => '(app = ? AND environment = ?)').join(' OR '),
  values: theirs.flatMap(({ environment }) => [environment?.app, environment?.name]),
});

export const listEntries = (parts: Platform, from: readonly ListPart[], request: ListRequest) =>
  listAcross<Row, AuditEntry>(from, LISTED, request, parts, (row) => presentEntry(parts, row));

function presentEntry({ actors }: Pick<Platform, 'actors'>, { mac: _, actor, before, after, ...row }: Row): AuditEntry {
  return {
    ...row,
    number: Number(row.number),
    at: row.at.toISOString(),
    actor: actors.show(actor),
    kind: row.kind as AuditKind,
    outcome: row.outcome as AuditOutcome,
    summary: SUMMARIES.get(row.action) ?? row.action,
    before: readDocument(before),
    after: readDocument(after),
  };
}

/** Masking a secret inside a string may leave text that is not JSON. */
function readDocument(text: string | null): unknown {
  if (text === null) return null;
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}
