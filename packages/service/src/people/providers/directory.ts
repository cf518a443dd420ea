/** LDAP directories (RFC 4511): bind and search over TLS, groups within groups. */
import { lookup } from 'node:dns/promises';
import { isIP } from 'node:net';
import { Client, type Entry } from 'ldapts';
import type { Environment } from '../../platform/call.js';
import { isPublic } from '../../platform/http/publicHosts.js';
import type { OutsideHttp } from './outsideHttp.js';
import { namedPerson, type OutsidePerson } from './person.js';
import { openSecret, type WayOf } from './ways.js';

type Way = WayOf<'directory'>;
const WITHIN_MS = 10_000;
const PAGE = 500;
/** Groups of one person, those of groups included. */
const MOST_GROUPS = 1_000;
/** What LDAP says of a wrong password (RFC 4511 section A.1), and of a search that finds more than was asked for. */
const WRONG_PASSWORD = 49;
const TOO_MANY = 4;

/** The directory cannot be asked; the text says why. */
export class DirectoryAway extends Error {}

export class Directories {
  constructor(private readonly http: OutsideHttp) {}

  /**
   * Whoever has this name and password; null when that is nobody, whichever of them is wrong.
   * @throws {DirectoryAway}
   */
  async signIn(environment: Environment, name: string, way: Way, user: string, password: string): Promise<OutsidePerson | null> {
    return this.within(environment, name, way, async (client) => {
      const entry = await findPerson(client, way, user);
      // RFC 4513 section 5.1.2: with an empty password a directory lets anybody in, as nobody.
      if (password === '') return null;
      // Somebody who is not there takes as long as a wrong password.
      const isRight = await passwordIsRight(client, entry?.dn ?? `cn=nobody,${way.base}`, password);
      if (!isRight || !entry) return null;
      await this.#bind(client, environment, name, way);
      return personOf(way, entry, await groupsOf(client, way, entry.dn));
    });
  }

  /** Works with a connection that may search. @throws {DirectoryAway} */
  async within<Result>(environment: Environment, name: string, way: Way, work: (client: Client) => Promise<Result>): Promise<Result> {
    const { protocol, hostname } = new URL(way.address);
    const host = hostname.replace(/^\[|\]$/g, '');
    await this.#demandPublic(host);
    // RFC 6066 section 3: the name of a server is no IP address.
    const tlsOptions = {
      ...(way.trust ? { ca: [way.trust] } : {}),
      ...(isIP(host) ? { host } : { servername: host, host }),
      rejectUnauthorized: true,
    };
    const limits = { timeout: WITHIN_MS, connectTimeout: WITHIN_MS, strictDN: false };
    // With `tlsOptions` the client would speak TLS from the first byte.
    const client = new Client({ url: way.address, ...limits, ...(protocol === 'ldaps:' ? { tlsOptions } : {}) });
    try {
      // RFC 4511 section 4.14: nothing is said before the connection is encrypted.
      if (protocol === 'ldap:') await client.startTLS(tlsOptions);
      await this.#bind(client, environment, name, way);
      return await work(client);
    } catch (error) {
      throw error instanceof DirectoryAway
        ? error
        : new DirectoryAway(directoryWords(error as Error & { code?: number | string }, way), { cause: error });
    } finally {
      await client.unbind().catch(() => undefined);
    }
  }

  async #bind(client: Client, environment: Environment, name: string, way: Way): Promise<void> {
    try {
      await client.bind(way.bindDn, way.secret === null ? '' : openSecret(environment, name, way.secret));
    } catch (error) {
      if ((error as { code?: number }).code !== WRONG_PASSWORD) throw error;
      throw new DirectoryAway(`The directory refuses ${way.bindDn}: name or password of the account that searches is wrong.`);
    }
  }

  async #demandPublic(hostname: string): Promise<void> {
    if (this.http.trustedHosts().has(hostname)) return;
    const found = await lookup(hostname, { all: true }).catch(() => {
      throw new DirectoryAway(`There is no host ${hostname}.`);
    });
    if (!found.every(({ address }) => isPublic(address)))
      throw new DirectoryAway(`${hostname} is a private address. List its origin in ORCHARD_PUSH_ORIGINS to allow it.`);
  }
}

/** @throws {DirectoryAway} when several have the name */
export async function findPerson(client: Client, { base, filter, attributes }: Way, user: string): Promise<Entry | null> {
  const wanted = [attributes.id, attributes.email, attributes.name];
  const several = new DirectoryAway(`The filter ${filter} fits several people with the name ${user}. Nobody is let in by it.`);
  try {
    const { searchEntries } = await client.search(base, { scope: 'sub', filter: fill(filter, { user }), attributes: wanted, sizeLimit: 2 });
    if (searchEntries.length > 1) throw several;
    return searchEntries[0] ?? null;
  } catch (error) {
    throw (error as { code?: number }).code === TOO_MANY ? several : error;
  }
}

async function passwordIsRight(client: Client, dn: string, password: string): Promise<boolean> {
  try {
    await client.bind(dn, password);
    return true;
  } catch (error) {
    if ((error as { code?: number }).code === WRONG_PASSWORD) return false;
    throw error;
  }
}

/** The names of the groups of an entry, and of the groups that these are in; each is visited once, so a circle ends. */
export async function groupsOf(client: Client, { groups }: Way, dn: string): Promise<string[]> {
  if (!groups) return [];
  const names = new Set<string>();
  const seen = new Set([dn.toLowerCase()]);
  let next = [dn];
  while (next.length > 0 && names.size < MOST_GROUPS) {
    const found = (await Promise.all(next.map((member) => searchGroups(client, groups, fill(groups.filter, { dn: member }))))).flat();
    next = found.filter(({ dn: one }) => !seen.has(one.toLowerCase())).map(({ dn: one }) => one);
    for (const { dn: one, name } of found) {
      seen.add(one.toLowerCase());
      if (name) names.add(name);
    }
  }
  return [...names];
}

async function searchGroups(client: Client, { base, name }: NonNullable<Way['groups']>, filter: string) {
  const { searchEntries } = await client.search(base, { scope: 'sub', filter, attributes: [name], paged: { pageSize: PAGE } });
  return searchEntries.map((entry) => ({ dn: entry.dn, name: textOf(entry[name]) }));
}

/** How many groups there are at all, to tell an empty base from a filter that fits nobody. */
export async function countGroups(client: Client, { base, name }: NonNullable<Way['groups']>): Promise<number> {
  return (await searchGroups(client, { base, name, filter: '' }, '(objectClass=*)')).filter(({ name: one }) => one !== null).length;
}

function personOf(way: Way, entry: Entry, groups: string[]): OutsidePerson {
  const { attributes, emailProved, address } = way;
  const subject = textOf(entry[attributes.id]) ?? entry.dn;
  return { ...namedPerson(address, subject, textOf(entry[attributes.email]), textOf(entry[attributes.name])), emailProved, groups };
}

const textOf = (value: Entry[string] | undefined): string | null => {
  const one = Array.isArray(value) ? value[0] : value;
  return one === undefined || one.length === 0 ? null : one.toString();
};

/** RFC 4515 section 3: what has a meaning in a filter is written by its code. */
function fill(filter: string, values: Record<string, string>): string {
  const escaped = (text: string) => text.replace(/[\\*()\0]/g, (letter) => `\\${letter.charCodeAt(0).toString(16).padStart(2, '0')}`);
  return filter.replace(/\{(user|dn)\}/g, (_, name: string) => escaped(values[name] ?? ''));
}

function directoryWords(error: Error & { code?: number | string }, { address, base }: Way): string {
  const { code, message } = error;
  const { host } = new URL(address);
  if (code === 'ECONNREFUSED') return `Nothing listens at ${host}.`;
  if (code === 'ENOTFOUND' || code === 'EAI_AGAIN') return `There is no host ${host}.`;
  if (code === 'ETIMEDOUT' || /timeout|timed out/i.test(message)) return `${host} does not answer.`;
  if (
    code === 'SELF_SIGNED_CERT_IN_CHAIN' ||
    code === 'DEPTH_ZERO_SELF_SIGNED_CERT' ||
    code === 'UNABLE_TO_VERIFY_LEAF_SIGNATURE' ||
    /unable to (verify|get)|self.signed/i.test(message)
  )
    return `The certificate of ${host} is from an authority that is not known here. Enter its certificate under \`trust\`.`;
  if (code === 'ERR_TLS_CERT_ALTNAME_INVALID') return `The certificate of ${host} is for another host: ${message}.`;
  if (code === 'CERT_HAS_EXPIRED') return `The certificate of ${host} has expired.`;
  if (code === 32) return `The directory has no ${base}, or no such base for groups.`;
  if (code === 50) return 'The account that searches may not do so there.';
  if (code === 52 || code === 51) return `The directory at ${host} is busy or away.`;
  return `The directory at ${host} cannot be asked: ${message || error.name}.`;
}
