/** Sites and their versions, as rows. */
import type { SiteFile } from '@orchard/core';
import { and, count, desc, eq, inArray, lt, sql } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import type { Database, Statements } from '../../platform/database/connection.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { siteHosts } from './systemTables.js';
import { siteContentTable, siteLoadTable, siteReportTable, siteTable, siteVersionTable } from './tables.js';

export type SiteRow = typeof siteTable.$inferSelect;
export type VersionRow = Omit<typeof siteVersionTable.$inferSelect, 'files'>;
export type SiteFileMap = ReadonlyMap<string, SiteFile>;

const held = (row: SiteRow): SiteRow => ({
  ...row,
  redirects: storedJson(row.redirects),
  headers: storedJson(row.headers),
  hosts: storedJson(row.hosts),
});

export async function listSites({ db }: Environment): Promise<SiteRow[]> {
  return (await db.orm.select().from(db.table(siteTable)).orderBy(siteTable.name)).map(held);
}

export async function findSite({ db }: Environment, name: string): Promise<SiteRow | null> {
  const [row] = await db.orm.select().from(db.table(siteTable)).where(eq(siteTable.name, name));
  return row ? held(row) : null;
}

export async function writeSite({ db }: Environment, row: SiteRow): Promise<void> {
  const { name: _, createdBy: _b, createdAt: _a, ...changes } = row;
  await db.orm.insert(db.table(siteTable)).values(row).onDuplicateKeyUpdate({ set: changes });
}

export async function switchSite({ db }: Environment, name: string, version: number, changedAt: Date): Promise<void> {
  await db.orm.update(db.table(siteTable)).set({ version, changedAt }).where(eq(siteTable.name, name));
}

export async function removeSite({ db }: Environment, name: string): Promise<void> {
  await db.orm.delete(db.table(siteTable)).where(eq(siteTable.name, name));
  for (const table of [siteVersionTable, siteContentTable, siteLoadTable, siteReportTable] as const)
    await db.orm.delete(db.table(table)).where(eq(table.site, name));
}

/** The site that a host of a team's own leads to. */
export async function siteOfHost(database: Database, host: string): Promise<{ environmentId: string; site: string } | null> {
  const [row] = await database.orm.select().from(siteHosts).where(eq(siteHosts.host, host));
  return row ?? null;
}

/** The hosts of all sites of an environment. */
export const hostsOf = ({ orm }: Pick<Database, 'orm'>, environmentId: string): Promise<{ host: string; site: string }[]> =>
  orm.select({ host: siteHosts.host, site: siteHosts.site }).from(siteHosts).where(eq(siteHosts.environmentId, environmentId));

/** Gives an environment a host back; one that has gone to another site stays there. */
export async function returnHost({ orm }: Pick<Database, 'orm'>, environmentId: string, of: { host: string; site: string }): Promise<void> {
  await orm
    .insert(siteHosts)
    .ignore()
    .values({ ...of, environmentId });
}

/** The hosts of one environment become those of another. */
export async function moveHosts({ orm }: Pick<Database, 'orm'>, from: string, to: string): Promise<void> {
  await orm.update(siteHosts).set({ environmentId: to }).where(eq(siteHosts.environmentId, from));
}

/** Gives a site its hosts. @returns one that another site has already */
export async function giveHosts(database: Database, environmentId: string, site: string, hosts: readonly string[]): Promise<string | null> {
  const taken =
    hosts.length === 0
      ? []
      : await database.orm
          .select()
          .from(siteHosts)
          .where(inArray(siteHosts.host, [...hosts]));
  const other = taken.find((row) => row.environmentId !== environmentId || row.site !== site);
  if (other) return other.host;
  await database.orm.delete(siteHosts).where(and(eq(siteHosts.environmentId, environmentId), eq(siteHosts.site, site)));
  if (hosts.length > 0) await database.orm.insert(siteHosts).values(hosts.map((host) => ({ host, environmentId, site })));
  return null;
}

const FACTS = {
  site: siteVersionTable.site,
  version: siteVersionTable.version,
  count: siteVersionTable.count,
  bytes: siteVersionTable.bytes,
  note: siteVersionTable.note,
  createdBy: siteVersionTable.createdBy,
  createdAt: siteVersionTable.createdAt,
};

export const listVersions = ({ db }: Environment, site: string): Promise<VersionRow[]> =>
  db.orm.select(FACTS).from(db.table(siteVersionTable)).where(eq(siteVersionTable.site, site)).orderBy(desc(siteVersionTable.version));

/** How many versions of each site are kept. */
export async function versionsBySite({ db }: Environment): Promise<Map<string, number>> {
  const { site } = siteVersionTable;
  const rows = await db.orm.select({ site, versions: count() }).from(db.table(siteVersionTable)).groupBy(site);
  return new Map(rows.map((row) => [row.site, row.versions]));
}

export async function readFiles({ db }: Environment, site: string, version: number): Promise<SiteFileMap | null> {
  const [row] = await db.orm
    .select({ files: siteVersionTable.files })
    .from(db.table(siteVersionTable))
    .where(and(eq(siteVersionTable.site, site), eq(siteVersionTable.version, version)));
  return row ? new Map(Object.entries(JSON.parse(row.files) as Record<string, SiteFile>)) : null;
}

/** Adds the next version of a site, and forgets those that are not kept any more. Raw SQL: it locks the site's row. @returns its number */
export function addVersion(
  { db }: Environment,
  site: SiteRow,
  files: SiteFileMap,
  { note, by, now, use }: { note: string; by: string; now: Date; use: boolean },
): Promise<number> {
  const digests = [...new Set([...files.values()].flatMap(contentsOf))];
  return db.transaction(async (on) => {
    const [held] = await on.rows<{ version: number }>(`SELECT version FROM ${db.of(siteTable)} WHERE name = ? FOR UPDATE`, [site.name]);
    const [last] = await on.rows<{ version: number | null }>(
      `SELECT MAX(version) AS version FROM ${db.of(siteVersionTable)} WHERE site = ?`,
      [site.name],
    );
    const version = Number(last?.version ?? 0) + 1;
    await on.change(
      `INSERT INTO ${db.of(siteVersionTable)} (site, version, files, \`count\`, bytes, note, createdBy, createdAt) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
      [site.name, version, JSON.stringify(Object.fromEntries(files)), files.size, bytesOf(files), note, by, now],
    );
    if (digests.length > 0)
      await on.run(`INSERT INTO ${db.of(siteContentTable)} (site, version, digest) VALUES ?`, [
        digests.map((digest) => [site.name, version, digest]),
      ]);
    if (use) await on.change(`UPDATE ${db.of(siteTable)} SET version = ?, changedAt = ? WHERE name = ?`, [version, now, site.name]);
    const inForce = use ? version : Number(held?.version ?? 0);
    await trim(on, db, site, version - site.keep, inForce);
    return version;
  });
}

async function trim(on: Statements, db: Environment['db'], { name }: SiteRow, upTo: number, inForce: number): Promise<void> {
  for (const table of [siteVersionTable, siteContentTable])
    await on.change(`DELETE FROM ${db.of(table)} WHERE site = ? AND version <= ? AND version <> ?`, [name, upTo, inForce]);
}

const contentsOf = ({ digest, packed }: SiteFile): string[] => [
  digest,
  ...[packed?.br, packed?.gzip].flatMap((one) => (one ? [one.digest] : [])),
];
export const bytesOf = (files: SiteFileMap): number => [...files.values()].reduce((sum, { size }) => sum + size, 0);

/** The subquery by which contents of sites are kept. */
export const holdsContent = ({ db }: Environment): string => `SELECT 1 FROM ${db.of(siteContentTable)} s WHERE s.digest = c.digest`;

export type Load = { site: string; hour: Date; page: string; status: number; at: Date };

/** Adds loads of pages. Raw SQL: many rows, each added to what was counted before. */
export async function addLoads({ db }: Environment, loads: readonly Load[]): Promise<void> {
  const sums = new Map<string, { load: Load; count: number }>();
  for (const load of loads) {
    const key = JSON.stringify([load.site, load.hour.getTime(), load.page, load.status]);
    const known = sums.get(key);
    if (known) known.count++;
    else sums.set(key, { load, count: 1 });
  }
  await db.run(
    `INSERT INTO ${db.of(siteLoadTable)} (site, hour, page, status, loads, lastAt) VALUES ?
     ON DUPLICATE KEY UPDATE loads = loads + VALUES(loads), lastAt = VALUES(lastAt)`,
    [[...sums.values()].map(({ load, count }) => [load.site, load.hour, load.page, load.status, count, load.at])],
  );
}

/** Loads since a moment, by page and status, and by hour. Raw SQL: sums over groups. */
export async function readLoads({ db }: Environment, site: string, since: Date) {
  const pages = await db.rows<{ page: string; status: number; loads: number; lastAt: Date }>(
    `SELECT page, status, SUM(loads) AS loads, MAX(lastAt) AS lastAt FROM ${db.of(siteLoadTable)} WHERE site = ? AND hour >= ? GROUP BY page, status ORDER BY loads DESC LIMIT 200`,
    [site, since],
  );
  const hours = await db.rows<{ at: Date; loads: number; failed: number }>(
    `SELECT hour AS at, SUM(loads) AS loads, SUM(IF(status >= 400, loads, 0)) AS failed FROM ${db.of(siteLoadTable)} WHERE site = ? AND hour >= ? GROUP BY hour ORDER BY hour`,
    [site, since],
  );
  return { pages, hours };
}

/** Loads of all sites since a moment. */
export async function loadsBySite({ db }: Environment, since: Date): Promise<Map<string, { loads: number; failed: number }>> {
  const rows = await db.rows<{ site: string; loads: number; failed: number }>(
    `SELECT site, SUM(loads) AS loads, SUM(IF(status >= 400, loads, 0)) AS failed FROM ${db.of(siteLoadTable)} WHERE hour >= ? GROUP BY site`,
    [since],
  );
  return new Map(rows.map(({ site, loads, failed }) => [site, { loads: Number(loads), failed: Number(failed) }]));
}

export type ReportRow = typeof siteReportTable.$inferSelect;
/** The most kinds of reports that are kept of a site: pages of others could send any number. */
const MOST_REPORTS = 500;

export async function addReport({ db }: Environment, row: ReportRow): Promise<void> {
  const { count: _, ...fresh } = row;
  const [updated] = await db.orm
    .update(db.table(siteReportTable))
    .set({ count: sql`${siteReportTable.count} + 1`, lastAt: fresh.lastAt })
    .where(eq(siteReportTable.id, row.id));
  if (updated.affectedRows > 0) return;
  const [{ n } = { n: 0 }] = await db.orm
    .select({ n: sql<number>`COUNT(*)` })
    .from(db.table(siteReportTable))
    .where(eq(siteReportTable.site, row.site));
  if (Number(n) < MOST_REPORTS) await db.orm.insert(db.table(siteReportTable)).ignore().values(row);
}

export const listReports = ({ db }: Environment, since: Date, site?: string): Promise<ReportRow[]> =>
  db.orm
    .select()
    .from(db.table(siteReportTable))
    .where(and(sql`${siteReportTable.lastAt} >= ${since}`, site === undefined ? undefined : eq(siteReportTable.site, site)))
    .orderBy(desc(siteReportTable.count))
    .limit(MOST_REPORTS);

export async function forgetOld({ db }: Environment, loadsBefore: Date, reportsBefore: Date): Promise<void> {
  await db.orm.delete(db.table(siteLoadTable)).where(lt(siteLoadTable.hour, loadsBefore));
  await db.orm.delete(db.table(siteReportTable)).where(lt(siteReportTable.lastAt, reportsBefore));
}
