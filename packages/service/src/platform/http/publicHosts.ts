/** Addresses outside the installation's own network: the only ones it calls for others, unless the settings name one. */
import { lookup } from 'node:dns';
import ipaddr from 'ipaddr.js';

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
