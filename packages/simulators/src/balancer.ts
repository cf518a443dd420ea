/** HAProxy from Debian's package, with the example of the documents: it is what runs. */
import { readFileSync } from 'node:fs';

const EXAMPLE = new URL('../../../docs/examples/haproxy.cfg', import.meta.url);

/** @param bind `host:port` that it listens on @param instances `host:port` of each instance @returns its settings */
export const balancerSettings = (bind: string, instances: readonly string[]): string =>
  readFileSync(EXAMPLE, 'utf8')
    .replace('bind :8080', `bind ${bind}`)
    .replace(/( +server \S+ \S+\n)+/, instances.map((instance, i) => `  server instance${i + 1} ${instance}\n`).join(''));
