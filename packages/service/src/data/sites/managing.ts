/** Sites as members manage them. */
import { rm } from 'node:fs/promises';
import { Readable } from 'node:stream';
import { text } from 'node:stream/consumers';
import { type operations, Problem, type SiteDocument, type SiteVersionDocument } from '@orchard/contract';
import { siteDifference, type SiteFile } from '@orchard/core';
import { type Answer, authorOf, type Call, type Environment, environmentOf } from '../../platform/call.js';
import { authorOf as recordAuthorOf } from '../records/author.js';
import { folderPathOf } from '../files/paths.js';
import { receive } from '../files/receiving.js';
import { AppStore } from '../../setup/apps/store.js';
import { pathOf, SiteBuilding, siteTypeOf } from './building.js';
import type { SiteHosts } from './hosts.js';
import type { Parts } from './parts.js';
import { presentReport } from './reporting.js';
import {
  addVersion,
  findSite,
  giveHosts,
  listReports,
  listSites,
  listVersions,
  loadsBySite,
  readFiles,
  readLoads,
  removeSite,
  type SiteFileMap,
  type SiteRow,
  switchSite,
  type VersionRow,
  versionsBySite,
  writeSite,
} from './store.js';

type Own = typeof operations.sites;
const [HOUR_MS, DAY_MS] = [3_600_000, 86_400_000];
const REPORTS_MS = 7 * DAY_MS;
const MOST_TEXT = 500_000;

export class SiteManaging {
  readonly #apps: AppStore;
  readonly #building: SiteBuilding;

  constructor(
    private readonly parts: Parts,
    private readonly hosts: SiteHosts,
  ) {
    this.#apps = new AppStore(parts);
    this.#building = new SiteBuilding(parts.contents);
  }

  async list(environment: Environment): Promise<SiteDocument[]> {
    return this.#present(environment, await listSites(environment));
  }

  async read(environment: Environment, name: string): Promise<SiteDocument> {
    return (await this.#present(environment, [await this.named(environment, name)]))[0] as SiteDocument;
  }

  async #present(environment: Environment, rows: SiteRow[]): Promise<SiteDocument[]> {
    const now = this.parts.now();
    const loads = await loadsBySite(environment, new Date(now - DAY_MS));
    const reports = await listReports(environment, new Date(now - REPORTS_MS));
    const versions = await versionsBySite(environment);
    return rows.map(({ name, client, fallback, redirects, headers, hosts, keep, version, changedAt }) => ({
      ...{ name, client, fallback, redirects, headers, hosts, keep, version },
      address: this.hosts.addressOf(environment, name),
      versions: versions.get(name) ?? 0,
      changedAt: changedAt.toISOString(),
      loads: loads.get(name)?.loads ?? 0,
      failed: loads.get(name)?.failed ?? 0,
      reports: reports.filter(({ site }) => site === name).length,
    }));
  }

  /** @throws {Problem} not-found */
  async named(environment: Environment, name: string): Promise<SiteRow> {
    const row = await findSite(environment, name);
    if (!row) throw new Problem('not-found', `There is no site ${name}. \`orchard site push ${name} dist/\` makes one.`);
    return row;
  }

  /** @throws {Problem} not-found, already-exists, invalid-input */
  async put(call: Call<Own['put']>): Promise<Answer<SiteDocument>> {
    const environment = environmentOf(call);
    const { site: name } = call.params;
    const present = await findSite(environment, name);
    const now = new Date(this.parts.now());
    const fresh: SiteRow = {
      ...{ name, client: '', fallback: null, redirects: [], headers: [], hosts: [], keep: 20, version: 0 },
      createdBy: authorOf(call as Call),
      createdAt: now,
      changedAt: now,
    };
    const given = Object.fromEntries(Object.entries(call.body).filter(([, value]) => value !== undefined));
    const row: SiteRow = { ...(present ?? fresh), ...given, changedAt: now };
    row.client ||= await this.#onlyWebClient(environment);
    await this.#demandWebClient(environment, row.client);
    const taken = await giveHosts(this.parts.database, environment.id, name, row.hosts);
    if (taken) throw new Problem('already-exists', `${taken} leads to another site already.`);
    await writeSite(environment, row);
    this.hosts.forget();
    return { body: await this.read(environment, name), status: present ? 200 : 201 };
  }

  async #onlyWebClient(environment: Environment): Promise<string> {
    const web = (await this.#apps.listClients(environment)).filter(({ kind }) => kind === 'web');
    if (web.length === 1 && web[0]) return web[0].name;
    const problem =
      web.length === 0
        ? 'There is no client of kind web.'
        : `There are several clients of kind web: ${web.map(({ name }) => name).join(', ')}.`;
    throw new Problem('invalid-input', `${problem} Say whose site it is.`, {
      fields: [{ path: 'body.client', problem, expected: 'a client of kind web' }],
    });
  }

  async #demandWebClient(environment: Environment, client: string): Promise<void> {
    const found = await this.#apps.findClient(environment, client);
    if (found?.kind === 'web') return;
    const problem = found ? `The client ${client} is of kind ${found.kind}.` : `There is no client ${client}.`;
    throw new Problem('invalid-input', problem, { fields: [{ path: 'body.client', problem, expected: 'a client of kind web' }] });
  }

  async remove(environment: Environment, name: string): Promise<void> {
    await this.named(environment, name);
    await giveHosts(this.parts.database, environment.id, name, []);
    await removeSite(environment, name);
    this.hosts.forget();
  }

  /** @throws {Problem} invalid-input, file-too-large, storage-full, upload-broken */
  async push(call: Call<Own['push']>): Promise<SiteVersionDocument> {
    const environment = environmentOf(call);
    const site = await this.named(environment, call.params.site);
    const arrived = await receive(call as Call, this.parts.contents, environment, call.request);
    try {
      const files = await this.#building.ofZip(environment, arrived.file);
      return await this.#add(call as Call, site, files, call.query);
    } finally {
      await rm(arrived.file, { force: true });
    }
  }

  /** @throws {Problem} not-found, file-too-large, storage-full */
  async pushFolder(call: Call<Own['pushFolder']>): Promise<SiteVersionDocument> {
    const environment = environmentOf(call);
    const site = await this.named(environment, call.params.site);
    const folder = folderPathOf(call.body.folder, 'body.folder');
    const all = this.parts.fileReading.all(environment, folder, undefined, recordAuthorOf(call as Call));
    return this.#add(call as Call, site, await this.#building.ofFolder(environment, all, folder), call.body);
  }

  async #add(call: Call, site: SiteRow, files: SiteFileMap, { note, use }: { note: string; use: boolean }): Promise<SiteVersionDocument> {
    const environment = environmentOf(call);
    const version = await addVersion(environment, site, files, { note, use, by: authorOf(call), now: new Date(this.parts.now()) });
    this.hosts.forget();
    return (await this.versions(environment, site.name)).find((one) => one.version === version) as SiteVersionDocument;
  }

  async versions(environment: Environment, name: string): Promise<SiteVersionDocument[]> {
    const site = await this.named(environment, name);
    return (await listVersions(environment, name)).map((row) => this.#presentVersion(environment, site, row));
  }

  #presentVersion(
    environment: Environment,
    site: SiteRow,
    { version, count, bytes, note, createdBy, createdAt }: VersionRow,
  ): SiteVersionDocument {
    return {
      version,
      files: count,
      bytes: Number(bytes),
      inForce: version === site.version,
      note,
      address: this.hosts.addressOf(environment, site.name, version),
      createdBy: environment.actors.show(createdBy),
      createdAt: createdAt.toISOString(),
    };
  }

  /** @throws {Problem} not-found */
  async version(environment: Environment, name: string, version: number, against: number | undefined) {
    const all = await this.versions(environment, name);
    const found = all.find((one) => one.version === version);
    const files = found && (await readFiles(environment, name, version));
    if (!found || !files) throw new Problem('not-found', `No version ${version} of ${name} is kept.`);
    const before = against ?? all.find((one) => one.version < version)?.version;
    const other = before === undefined ? null : await readFiles(environment, name, before);
    const items = [...files].map(([path, { size, type, packed }]) => ({
      path,
      size,
      type,
      packed: packed?.br?.size ?? packed?.gzip?.size ?? null,
    }));
    return { ...found, items, changes: siteDifference(other ?? new Map(), files) };
  }

  /** @throws {Problem} not-found */
  async use(environment: Environment, name: string, version: number): Promise<SiteDocument> {
    await this.named(environment, name);
    if (!(await readFiles(environment, name, version))) throw new Problem('not-found', `No version ${version} of ${name} is kept.`);
    await switchSite(environment, name, version, new Date(this.parts.now()));
    this.hosts.forget();
    return this.read(environment, name);
  }

  /** @throws {Problem} not-found, invalid-input */
  async readFile(environment: Environment, name: string, path: string): Promise<{ path: string; text: string; version: number }> {
    const { version } = await this.named(environment, name);
    const file = (await readFiles(environment, name, version))?.get(path);
    if (!file) throw new Problem('not-found', `Version ${version} of ${name} has no file ${path}.`);
    if (file.size > MOST_TEXT || !/^text\/|javascript|json|xml|svg/.test(file.type))
      throw new Problem(
        'invalid-input',
        `${path} is no text that can be edited here: it is of type ${file.type}, with ${file.size.toLocaleString('en')} bytes.`,
      );
    return { path, text: await text(this.parts.contents.bytes.read(environment.id, file.digest)), version };
  }

  /** @throws {Problem} not-found, version-conflict, invalid-input */
  async writeFile(call: Call<Own['writeFile']>): Promise<SiteVersionDocument> {
    const environment = environmentOf(call);
    const { text: content, version, note } = call.body;
    const site = await this.named(environment, call.params.site);
    if (site.version !== version)
      throw new Problem(
        'version-conflict',
        `Version ${site.version} of ${site.name} is in force now, not ${version}. Read the file again.`,
      );
    const { path } = pathOf(call.params.path);
    const limit = await this.parts.contents.limitOf(environment);
    const file: SiteFile = await this.#building.keep(environment, path, Readable.from([Buffer.from(content)]), limit);
    const files = new Map([...((await readFiles(environment, site.name, version)) ?? []), [path, { ...file, type: siteTypeOf(path) }]]);
    return this.#add(call as Call, site, files, { note: note || `Changed ${path}`, use: true });
  }

  async loads(environment: Environment, name: string, hours: number) {
    await this.named(environment, name);
    const now = this.parts.now();
    const { pages, hours: found } = await readLoads(environment, name, new Date(now - (now % HOUR_MS) - (hours - 1) * HOUR_MS));
    return {
      items: pages.map(({ page, status, loads, lastAt }) => ({ page, status, loads: Number(loads), lastAt: lastAt.toISOString() })),
      hours: found.map(({ at, loads, failed }) => ({ at: at.toISOString(), loads: Number(loads), failed: Number(failed) })),
    };
  }

  async reports(environment: Environment, name: string) {
    await this.named(environment, name);
    return (await listReports(environment, new Date(this.parts.now() - REPORTS_MS), name)).map(presentReport);
  }
}
