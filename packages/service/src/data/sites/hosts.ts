/** The address of each site: a host name of its own, so that cookies and stores of sites, console and API stay apart. */
import { LRUCache } from 'lru-cache';
import { Problem } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import { isDatabaseAway } from '../../platform/database/errors.js';
import type { Parts } from './parts.js';
import { findSite, type SiteRow, siteOfHost } from './store.js';

/** Another instance's changes may go unnoticed for this long. */
const REMEMBER_MS = 1_000;
const LABEL = '[a-z][a-z0-9-]*';

/** `preview` is a version that is looked at before it is in force. */
export type Found = { environment: Environment; site: SiteRow; preview: number | null };

export class SiteHosts {
  readonly #known = new LRUCache<string, { found: Found | null }>({ max: 5_000, ttl: REMEMBER_MS });
  #pattern: { template: string; host: RegExp } | null = null;

  constructor(private readonly parts: Parts) {}

  /** Where all sites are; `*.localhost` leads to this machine in every browser, without set-up. */
  #template(): { template: string; host: RegExp } {
    if (this.#pattern) return this.#pattern;
    const { protocol, port } = new URL(this.parts.address());
    const template = this.parts.config.siteHosts ?? `${protocol}//{site}.{environment}.{app}.localhost${port ? `:${port}` : ''}`;
    const [, host = ''] = /^https?:\/\/(.+)$/.exec(template) ?? [];
    const escaped = host.replace(/[.*+?^$()|[\]\\]/g, '\\$&');
    const named = escaped
      .replace('{site}', '(?<site>[a-z][a-z0-9-]*?)(?:--(?<preview>\\d{1,9}))?')
      .replace('{environment}', `(?<environment>${LABEL})`)
      .replace('{app}', `(?<app>${LABEL})`);
    this.#pattern = { template, host: new RegExp(`^${named}$`) };
    return this.#pattern;
  }

  /** @param preview a version that is not in force */
  addressOf({ app, name }: Environment, site: string, preview?: number): string {
    return this.#template()
      .template.replace('{site}', preview === undefined ? site : `${site}--${preview}`)
      .replace('{environment}', name)
      .replace('{app}', app);
  }

  /** Whether a host is one of sites, whether there is such a site or not. */
  isOfSites(host: string): boolean {
    return this.#template().host.test(host);
  }

  async find(host: string): Promise<Found | null> {
    const known = this.#known.get(host);
    if (known) return known.found;
    const found = (await this.#byPattern(host)) ?? (await this.#byName(host));
    this.#known.set(host, { found });
    return found;
  }

  async #byPattern(host: string): Promise<Found | null> {
    const { app, environment, site, preview } = this.#template().host.exec(host)?.groups ?? {};
    if (!app || !environment || !site) return null;
    const place = await this.#environment(() => this.parts.directory.here(app, environment));
    const row = place && (await findSite(place, site));
    return row ? { environment: place as Environment, site: row, preview: preview === undefined ? null : Number(preview) } : null;
  }

  async #byName(host: string): Promise<Found | null> {
    // Most calls name the service itself.
    if (host === new URL(this.parts.address()).host) return null;
    const known = await siteOfHost(this.parts.database, host.replace(/:\d+$/, '')).catch((error: unknown) => {
      // What needs no database, such as a supervisor's question, is answered without one.
      if (isDatabaseAway(error)) return null;
      throw error;
    });
    if (!known) return null;
    const environment = await this.parts.directory.hereById(known.environmentId);
    const row = environment && (await findSite(environment, known.site));
    return row && environment ? { environment, site: row, preview: null } : null;
  }

  async #environment(find: () => Promise<Environment>): Promise<Environment | null> {
    try {
      return await find();
    } catch (error) {
      if (error instanceof Problem) return null;
      throw error;
    }
  }

  forget(): void {
    this.#known.clear();
  }
}
