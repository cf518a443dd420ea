import { operations } from '@orchard/contract';
import { bind, environmentOf, type Naming, type Route } from '../../platform/call.js';
import type { SiteManaging } from './managing.js';
import { findSite } from './store.js';

/** What makes a version waits for its content. */
const APART = { as: 'apart' } as const;

export function siteRoutes(sites: SiteManaging): Route[] {
  const own = operations.sites;
  const audited = { read: async (call: Naming<{ site: string }>) => findSite(environmentOf(call), call.params.site) };
  return [
    bind(own.list, async (call) => ({ body: { items: await sites.list(environmentOf(call)) } })),
    bind(own.read, async (call) => ({ body: await sites.read(environmentOf(call), call.params.site) })),
    bind(own.put, (call) => sites.put(call), { ...audited, ...APART }),
    bind(
      own.remove,
      async (call) => {
        await sites.remove(environmentOf(call), call.params.site);
        return { body: undefined };
      },
      { ...audited, ...APART },
    ),
    bind(own.push, async (call) => ({ body: await sites.push(call) }), APART),
    bind(own.pushFolder, async (call) => ({ body: await sites.pushFolder(call) }), APART),
    bind(own.versions, async (call) => ({ body: { items: await sites.versions(environmentOf(call), call.params.site) } })),
    bind(own.version, async (call) => {
      const { site, version } = call.params;
      return { body: await sites.version(environmentOf(call), site, version, call.query.against) };
    }),
    bind(own.use, async (call) => ({ body: await sites.use(environmentOf(call), call.params.site, call.params.version) }), {
      subject: ({ params: { site, version } }) => `${site} ${version}`,
      after: ({ name, version }) => ({ name, version }),
    }),
    bind(own.readFile, async (call) => ({ body: await sites.readFile(environmentOf(call), call.params.site, call.params.path) })),
    bind(own.writeFile, async (call) => ({ body: await sites.writeFile(call) }), {
      ...APART,
      subject: ({ params: { site, path } }) => `${site} ${path}`,
    }),
    bind(own.loads, async (call) => ({ body: await sites.loads(environmentOf(call), call.params.site, call.query.hours) })),
    bind(own.reports, async (call) => ({ body: { items: await sites.reports(environmentOf(call), call.params.site) } })),
  ];
}
