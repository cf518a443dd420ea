import { z } from 'zod';
import { ENVIRONMENT, actor, environmentParams, nothing, operation, slug, time } from '../common.js';
import { folderPath } from './fileDefinition.js';

const AT = `${ENVIRONMENT}/sites`;
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const siteName = z
  .string()
  .max(40)
  .regex(/^[a-z][a-z0-9]*(-[a-z0-9]+)*$/, 'A small letter, then small letters, digits and single -.');
const one = environmentParams.extend({ site: siteName });
const hostName = z
  .string()
  .max(253)
  .toLowerCase()
  .regex(/^(?=.*\.)([a-z0-9]([a-z0-9-]*[a-z0-9])?\.)+[a-z][a-z0-9-]*$/, 'A host name, such as warden.quillfell.example.');
const pattern = z
  .string()
  .max(500)
  .regex(/^\/[^*]*\*?$/, 'A path that begins with /; a * at its end stands for the rest.');

const settings = {
  client: slug.describe('The client of kind web whose site it is: calls from its address are allowed for that client'),
  fallback: z.string().max(300).nullable().describe('The page for paths without a file, such as index.html of a single-page app'),
  redirects: z
    .array(
      z.strictObject({
        from: pattern,
        to: z.string().min(1).max(500).describe('A path or an address; a * takes what the * of `from` stood for'),
        status: z.union([z.literal(301), z.literal(302), z.literal(307), z.literal(308)]).default(308),
      }),
    )
    .max(500),
  headers: z
    .array(
      z.strictObject({
        path: pattern,
        name: z.string().regex(/^[A-Za-z0-9-]{1,60}$/, 'The name of a header.'),
        value: z
          .string()
          .max(2000)
          .regex(/^[\x20-\x7e]*$/, 'ASCII in one line.'),
      }),
    )
    .max(100),
  hosts: z.array(hostName).max(10).describe('Names of the team’s own that lead here; TLS is the proxy’s'),
  keep: z.int().min(1).max(100).describe('How many versions are kept'),
};
const changes = z.strictObject({
  client: settings.client.optional(),
  fallback: settings.fallback.optional(),
  redirects: settings.redirects.optional(),
  headers: settings.headers.optional(),
  hosts: settings.hosts.optional(),
  keep: settings.keep.optional(),
});
export const site = z
  .object({
    name: z.string(),
    ...settings,
    address: z.string(),
    version: z.int().describe('The version in force; 0 for none'),
    versions: z.int(),
    changedAt: time,
    loads: z.int().describe('Of pages, in the last 24 hours'),
    failed: z.int().describe('Of these, pages that were not found'),
    reports: z.int().describe('Kinds of what browsers refused on its pages, in the last 7 days'),
  })
  .meta({ id: 'Site' });
export type SiteDocument = z.infer<typeof site>;
export const siteVersion = z
  .object({
    version: z.int(),
    files: z.int(),
    bytes: z.int(),
    inForce: z.boolean(),
    note: z.string(),
    address: z.string().describe('Of its preview'),
    createdBy: actor,
    createdAt: time,
  })
  .meta({ id: 'SiteVersion' });
export type SiteVersionDocument = z.infer<typeof siteVersion>;
const change = z.object({
  path: z.string(),
  change: z.enum(['added', 'changed', 'removed']),
  before: z.int().nullable(),
  after: z.int().nullable(),
});
export const openSiteVersion = siteVersion
  .extend({
    items: z.array(
      z.object({ path: z.string(), size: z.int(), type: z.string(), packed: z.int().nullable().describe('Bytes as they are sent') }),
    ),
    changes: z.array(change).describe('Against the version before, or the one asked for'),
  })
  .meta({ id: 'OpenSiteVersion' });
export type OpenSiteVersion = z.infer<typeof openSiteVersion>;
export const pageLoads = z
  .object({
    items: z.array(z.object({ page: z.string(), status: z.int(), loads: z.int(), lastAt: time })),
    hours: z.array(z.object({ at: time, loads: z.int(), failed: z.int() })),
  })
  .meta({ id: 'PageLoads' });
export type PageLoads = z.infer<typeof pageLoads>;
export const browserReport = z
  .object({
    kind: z.string().describe('`csp-violation`, or another kind of the Reporting API'),
    directive: z.string(),
    blocked: z.string().describe('What the browser refused'),
    page: z.string(),
    count: z.int(),
    lastAt: time,
    advice: z.string(),
  })
  .meta({ id: 'BrowserReport' });
export type BrowserReport = z.infer<typeof browserReport>;

const note = z.string().max(200).default('').describe('What is new');
const PUSH_PROBLEMS = ['not-found', 'invalid-input', 'file-too-large', 'storage-full', 'upload-broken'] as const;

export const siteOperations = {
  list: operation({
    id: 'sites.list',
    command: 'site list',
    method: 'GET',
    path: AT,
    summary: 'The sites of an environment',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(site) }),
  }),
  read: operation({
    id: 'sites.read',
    command: 'site show',
    method: 'GET',
    path: `${AT}/{site}`,
    summary: 'A site with its settings',
    caller: viewer,
    params: one,
    reply: site,
    problems: ['not-found'],
  }),
  put: operation({
    id: 'sites.put',
    changes: 'site',
    command: 'site put',
    method: 'PUT',
    path: `${AT}/{site}`,
    summary: 'Create a site, or change its settings',
    caller: developer,
    params: one,
    body: changes,
    alsoStatus: 201,
    reply: site,
    problems: ['not-found', 'already-exists', 'invalid-input'],
  }),
  remove: operation({
    id: 'sites.remove',
    changes: 'site',
    command: 'site remove',
    method: 'DELETE',
    path: `${AT}/{site}`,
    summary: 'Delete a site with its versions',
    caller: developer,
    params: one,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  push: operation({
    id: 'sites.push',
    changes: 'site',
    method: 'POST',
    path: `${AT}/{site}/versions`,
    summary: 'Make a version of a ZIP, and switch to it',
    caller: developer,
    params: one,
    query: z.strictObject({ note, use: z.stringbool().default(true).describe('Whether to switch to it at once') }),
    rawBody: ['application/zip'],
    status: 201,
    reply: siteVersion,
    problems: [...PUSH_PROBLEMS],
  }),
  pushFolder: operation({
    id: 'sites.pushFolder',
    changes: 'site',
    method: 'POST',
    path: `${AT}/{site}/versions-of-folders`,
    summary: 'Make a version of a folder of the environment’s files',
    caller: developer,
    params: one,
    body: z.strictObject({ folder: folderPath, note, use: z.boolean().default(true) }),
    status: 201,
    reply: siteVersion,
    problems: [...PUSH_PROBLEMS],
  }),
  versions: operation({
    id: 'sites.versions',
    command: 'site versions',
    method: 'GET',
    path: `${AT}/{site}/versions`,
    summary: 'The versions of a site that are kept, newest first',
    caller: viewer,
    params: one,
    reply: z.object({ items: z.array(siteVersion) }),
    problems: ['not-found'],
  }),
  version: operation({
    id: 'sites.version',
    method: 'GET',
    path: `${AT}/{site}/versions/{version}`,
    summary: 'The files of a version, and how they differ from another one',
    caller: viewer,
    params: one.extend({ version: z.coerce.number().int().min(1) }),
    query: z.strictObject({ against: z.coerce.number().int().min(1).optional() }),
    reply: openSiteVersion,
    problems: ['not-found'],
  }),
  use: operation({
    id: 'sites.use',
    changes: 'site',
    command: 'site use',
    method: 'PUT',
    path: `${AT}/{site}/in-force/{version}`,
    summary: 'Switch to a version, at once; also back',
    caller: developer,
    params: one.extend({ version: z.coerce.number().int().min(1) }),
    reply: site,
    problems: ['not-found'],
  }),
  readFile: operation({
    id: 'sites.readFile',
    method: 'GET',
    path: `${AT}/{site}/files/{path...}`,
    summary: 'A text file of the version in force',
    caller: viewer,
    params: one.extend({ path: z.string().max(1000) }),
    reply: z.object({ path: z.string(), text: z.string(), version: z.int() }),
    problems: ['not-found', 'invalid-input'],
  }),
  writeFile: operation({
    id: 'sites.writeFile',
    changes: 'site',
    method: 'PUT',
    path: `${AT}/{site}/files/{path...}`,
    summary: 'Make a version with one text file changed, and switch to it',
    caller: developer,
    params: one.extend({ path: z.string().max(1000) }),
    body: z.strictObject({ text: z.string().max(500_000), version: z.int().describe('The version that was read'), note }),
    reply: siteVersion,
    problems: ['not-found', 'invalid-input', 'version-conflict', 'storage-full'],
  }),
  loads: operation({
    id: 'sites.loads',
    command: 'site loads',
    method: 'GET',
    path: `${AT}/{site}/loads`,
    summary: 'How often pages were loaded, by page and status',
    caller: viewer,
    params: one,
    query: z.strictObject({ hours: z.coerce.number().int().min(1).max(720).default(24) }),
    reply: pageLoads,
    problems: ['not-found'],
  }),
  reports: operation({
    id: 'sites.reports',
    command: 'site reports',
    method: 'GET',
    path: `${AT}/{site}/reports`,
    summary: 'What browsers refused on its pages, and what to do about it',
    caller: viewer,
    params: one,
    reply: z.object({ items: z.array(browserReport) }),
    problems: ['not-found'],
  }),
};
