import type { Capability } from '../../platform/capability.js';
import { WriteBehind } from '../../platform/writeBehind.js';
import { SiteHosts } from './hosts.js';
import { SiteManaging } from './managing.js';
import type { Parts } from './parts.js';
import { siteRoutes } from './routes.js';
import { SiteServing } from './serving.js';
import { addLoads, forgetOld, holdsContent, type Load } from './store.js';

const [HOUR_MS, DAY_MS] = [3_600_000, 86_400_000];
const [LOAD_DAYS, REPORT_DAYS] = [90, 30];

export function sites(parts: Parts): Capability {
  const hosts = new SiteHosts(parts);
  const loads = new WriteBehind<Load>(parts.log, { what: 'loads of pages', most: 10_000, write: addLoads });
  const serving = new SiteServing(parts, parts.contents, hosts, ({ environment }, load) => loads.add(environment, () => load));
  parts.contents.holders.push(holdsContent);
  parts.ports.isSiteOrigin = async (environment, client, origin) => {
    const found = await hosts.find(origin.replace(/^https?:\/\//, '').toLowerCase());
    return found !== null && found.environment.id === environment.id && found.site.client === client;
  };
  return {
    name: 'sites',
    routes: siteRoutes(new SiteManaging(parts, hosts)),
    serveHost: (request, response) => serving.serve(request, response),
    recurring: [
      {
        work: 'forget old loads of pages',
        everyMs: 6 * HOUR_MS,
        eachEnvironment: (environment) =>
          forgetOld(environment, new Date(parts.now() - LOAD_DAYS * DAY_MS), new Date(parts.now() - REPORT_DAYS * DAY_MS)),
      },
    ],
    start: () => loads.start(),
    stop: () => loads.stop(),
  };
}
