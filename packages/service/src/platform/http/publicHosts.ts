/** Addresses outside the installation's own network: the only ones it calls for others, unless the settings name one. */
import { lookup } from 'node:dns';
import { isIP } from 'node:net';
import ipaddr from 'ipaddr.js';
import { buildConnector } from 'undici';

export const isPublic = (address: string) => ipaddr.process(address).range() === 'unicast';

type LookupCallback = (error: NodeJS.ErrnoException | null, address: never, family?: number) => void;

/** Resolves a name, and refuses when it resolves to a private address (unless the origin is trusted). */
export function lookupPublic(hostname: string, options: object, trusted: ReadonlySet<string>, callback: LookupCallback): void {
  lookup(hostname, options, (error, found: unknown, family) => {
    const addresses = Array.isArray(found) ? (found as { address: string }[]).map(({ address }) => address) : [String(found)];
    if (!error && !trusted.has(hostname) && !addresses.every(isPublic)) {
      return callback(
        Object.assign(new Error(`${hostname} resolves to a private address`), { code: 'PRIVATE_ADDRESS' }),
        undefined as never,
      );
    }
    callback(error, found as never, family);
  });
}

const privateAddress = (host: string) => Object.assign(new Error(`${host} is a private address`), { code: 'PRIVATE_ADDRESS' });

/** Connects to public addresses alone, whether a name leads there or the address is written out. @param trusted hosts that may be private */
export function publicConnector(trusted: ReadonlySet<string>, options: buildConnector.BuildOptions = {}): buildConnector.connector {
  const connect = buildConnector({ ...options, lookup: (host, how, done) => lookupPublic(host, how, trusted, done) });
  return (target, done) => {
    const host = target.hostname.replace(/^\[|\]$/g, '');
    // Nothing is looked up for an address.
    if (isIP(host) && !trusted.has(host) && !trusted.has(target.hostname) && !isPublic(host)) return done(privateAddress(host), null);
    connect(target, done);
  };
}

/** The hosts of origins that the settings name, which may be private. */
export const hostsOf = (origins: readonly string[]): ReadonlySet<string> =>
  new Set(origins.filter((origin) => URL.canParse(origin)).map((origin) => new URL(origin).hostname));
