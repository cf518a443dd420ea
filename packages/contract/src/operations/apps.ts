import { z } from 'zod';
import { ENVIRONMENT, environmentParams, nothing, operation, slug, time } from '../common.js';
import { ROLES, SCOPES } from '../operation.js';

export const CLIENT_KINDS = ['ios', 'android', 'web', 'desktop', 'server'] as const;
export const MODES = ['open', 'closed'] as const;

export const environment = z
  .object({
    app: slug,
    name: slug,
    mode: z.enum(MODES).describe('open: writes may add collections and fields; closed: they are refused'),
    widening: z.boolean().describe('While open: whether a number with a fraction makes an integer field one of numbers'),
    server: slug.nullable().describe('The database server that holds it; null for the main one'),
    movedTo: z.string().nullable().describe('The address of the installation that it has moved to; calls of apps are passed on there'),
    role: z.enum(ROLES).describe('Your role in it'),
    secondFactorNeeded: z.boolean().describe('Your role is a higher one, but the app demands a second factor for it and you have none'),
    createdAt: time,
  })
  .meta({ id: 'Environment' });
export type Environment = z.infer<typeof environment>;

export const app = z
  .object({
    name: slug,
    title: z.string(),
    secondFactor: z.boolean().describe('Whether the rights of maintainers and owners need a second factor'),
    environments: z.array(environment),
    createdAt: time,
  })
  .meta({ id: 'App' });
export type App = z.infer<typeof app>;

export const key = z
  .object({
    id: z.string(),
    kind: z.enum(['client', 'server']),
    client: z.string(),
    name: z.string(),
    scopes: z.array(z.enum(SCOPES)),
    hint: z.string().describe('Its last six characters'),
    key: z.string().optional().describe('The whole key: always for a client key, once at creation for a server key'),
    createdAt: time,
    lastUsedAt: time.nullable(),
    revokedAt: time.nullable(),
  })
  .meta({ id: 'Key' });
export type Key = z.infer<typeof key>;

/** The page of a native shell has a scheme of its own, whose origin its web view sends as it is (RFC 6454 section 7). */
const OWN_SCHEME = /^(?!(?:https?|data|blob|file|javascript|about):)[a-z][a-z0-9+.-]{1,40}:\/\/[a-z0-9][a-z0-9.-]*$/;
const origin = z
  .string()
  .max(253)
  .refine((text) => {
    if (OWN_SCHEME.test(text)) return true;
    if (!URL.canParse(text)) return false;
    const url = new URL(text);
    return (url.protocol === 'https:' || url.protocol === 'http:') && url.origin === text;
  }, 'A web origin: scheme, host and port only, such as https://hiker.quillfell.example, or that of a native shell, such as hiker://app.');

export const client = z
  .object({
    name: slug,
    kind: z.enum(CLIENT_KINDS),
    packageIdentifier: z.string().nullable(),
    project: z.string().nullable().describe('Its project at a push network that uses service accounts'),
    origins: z.array(z.string()),
    keys: z.array(key),
    createdAt: time,
  })
  .meta({ id: 'Client' });
export type Client = z.infer<typeof client>;

/** The file an app ships with, `orchard-client.json`. */
export const clientProfile = z
  .object({ address: z.url(), app: slug, environment: slug, client: slug, clientKey: z.string() })
  .meta({ id: 'ClientProfile' });
export type ClientProfile = z.infer<typeof clientProfile>;

export const blockedOrigin = z
  .object({ client: slug, origin: z.string(), count: z.int(), firstAt: time, lastAt: time, lastRoute: z.string() })
  .meta({ id: 'BlockedOrigin' });
export type BlockedOrigin = z.infer<typeof blockedOrigin>;

const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;
const owner = { kind: 'member', role: 'owner' } as const;
const oneClient = environmentParams.extend({ client: slug });
const origins = z.array(origin).max(50);
const packageIdentifier = z.string().max(200).nullable();

export const appOperations = {
  list: operation({
    id: 'apps.list',
    command: 'app list',
    method: 'GET',
    path: '/manage/v1/apps',
    summary: 'Apps and environments you have a role in',
    caller: viewer,
    reply: z.object({ items: z.array(app) }),
  }),
  create: operation({
    id: 'apps.create',
    changes: 'app',
    command: 'app add <name>',
    method: 'POST',
    path: '/manage/v1/apps',
    summary: 'Create an app with the environments dev and live',
    caller: owner,
    body: z.strictObject({ name: slug, title: z.string().trim().min(1).max(100).optional() }),
    status: 201,
    reply: app,
    problems: ['already-exists'],
  }),
  patch: operation({
    id: 'apps.patch',
    changes: 'app',
    confirmed: true,
    command: 'app set',
    method: 'PATCH',
    path: '/manage/v1/apps/{app}',
    summary: 'Change the title of an app, or whether maintainers and owners need a second factor',
    caller: owner,
    params: z.object({ app: slug }),
    body: z.strictObject({ title: z.string().trim().min(1).max(100).optional(), secondFactor: z.boolean().optional() }),
    reply: app,
    problems: ['not-found'],
  }),
  remove: operation({
    id: 'apps.remove',
    changes: 'app',
    confirmed: true,
    command: 'app delete',
    method: 'DELETE',
    path: '/manage/v1/apps/{app}',
    summary: 'Delete an app with all environments and their data',
    caller: owner,
    params: z.object({ app: slug }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
};

export const environmentOperations = {
  create: operation({
    id: 'environments.create',
    changes: 'environment',
    command: 'env add <name>',
    method: 'POST',
    path: '/manage/v1/apps/{app}/environments',
    summary: 'Add an environment',
    caller: owner,
    params: z.object({ app: slug }),
    body: z.strictObject({
      name: slug,
      mode: z.enum(MODES).default('closed'),
      server: slug
        .nullish()
        .describe('The database server to place it on, by its name in ORCHARD_DATABASE_SERVERS; without one, the main one'),
    }),
    status: 201,
    reply: environment,
    problems: ['already-exists', 'not-found'],
  }),
  read: operation({
    id: 'environments.read',
    evenMoved: true,
    method: 'GET',
    path: ENVIRONMENT,
    summary: 'One environment',
    caller: viewer,
    params: environmentParams,
    reply: environment,
  }),
  patch: operation({
    id: 'environments.patch',
    changes: 'environment',
    method: 'PATCH',
    path: ENVIRONMENT,
    summary: 'Open or close an environment to new collections and fields',
    caller: maintainer,
    params: environmentParams,
    body: z.strictObject({ mode: z.enum(MODES).optional(), widening: z.boolean().optional() }),
    reply: environment,
  }),
  remove: operation({
    id: 'environments.remove',
    evenMoved: true,
    changes: 'environment',
    confirmed: true,
    command: 'env delete',
    method: 'DELETE',
    path: ENVIRONMENT,
    summary: 'Delete an environment with all its data',
    caller: owner,
    params: environmentParams,
    status: 204,
    reply: nothing,
  }),
};

export const clientOperations = {
  connection: operation({
    id: 'clients.connection',
    method: 'GET',
    path: '/app/v1/connection',
    summary: 'What a key leads to: for whoever sets up an app',
    caller: { kind: 'app', user: 'optional' },
    reply: z.object({
      app: z.string(),
      environment: z.string(),
      client: z.string(),
      kind: z.enum(CLIENT_KINDS),
      at: time.describe('Now, by the clock of the service'),
    }),
  }),
  list: operation({
    id: 'clients.list',
    command: 'client list',
    method: 'GET',
    path: `${ENVIRONMENT}/clients`,
    summary: 'Clients with their keys',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(client) }),
  }),
  create: operation({
    id: 'clients.create',
    changes: 'client',
    command: 'client add <name>',
    method: 'POST',
    path: `${ENVIRONMENT}/clients`,
    summary: 'Add a client; one that runs inside an app gets its client key at once',
    caller: developer,
    params: environmentParams,
    body: z.strictObject({
      name: slug,
      kind: z.enum(CLIENT_KINDS),
      packageIdentifier: packageIdentifier.optional(),
      project: packageIdentifier.optional(),
      origins: origins.optional(),
    }),
    status: 201,
    reply: client,
    problems: ['already-exists'],
  }),
  patch: operation({
    id: 'clients.patch',
    changes: 'client',
    command: 'client set',
    method: 'PATCH',
    path: `${ENVIRONMENT}/clients/{client}`,
    summary: 'Change package identifier, project or allowed web origins',
    caller: developer,
    params: oneClient,
    body: z.strictObject({
      packageIdentifier: packageIdentifier.optional(),
      project: packageIdentifier.optional(),
      origins: origins.optional(),
    }),
    reply: client,
    problems: ['not-found'],
  }),
  profile: operation({
    id: 'clients.profile',
    command: 'client profile',
    method: 'GET',
    path: `${ENVIRONMENT}/clients/{client}/profile`,
    summary: 'The client profile, a file to ship with the app',
    caller: viewer,
    params: oneClient,
    reply: clientProfile,
    problems: ['not-found'],
  }),
  createKey: operation({
    id: 'keys.create',
    changes: 'key',
    command: 'key add',
    method: 'POST',
    path: `${ENVIRONMENT}/clients/{client}/keys`,
    summary: 'Create a key; a server key is shown this once',
    caller: developer,
    params: oneClient,
    body: z.strictObject({ name: z.string().trim().min(1).max(100), scopes: z.array(z.enum(SCOPES)).optional() }),
    status: 201,
    reply: key,
    problems: ['not-found', 'invalid-input', 'confirmation-needed'],
  }),
  revokeKey: operation({
    id: 'keys.revoke',
    changes: 'key',
    command: 'key revoke',
    method: 'DELETE',
    path: `${ENVIRONMENT}/clients/{client}/keys/{key}`,
    summary: 'Revoke a key',
    caller: developer,
    params: oneClient.extend({ key: z.string().max(64) }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  blockedOrigins: operation({
    id: 'origins.blocked',
    command: 'client blocked',
    method: 'GET',
    path: `${ENVIRONMENT}/blocked-origins`,
    summary: 'Web origins that were refused, by client',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(blockedOrigin) }),
  }),
  allowOrigin: operation({
    id: 'origins.allow',
    changes: 'client',
    command: 'client allow <origin>',
    method: 'POST',
    path: `${ENVIRONMENT}/clients/{client}/origins`,
    summary: 'Allow one more web origin',
    caller: developer,
    params: oneClient,
    body: z.strictObject({ origin }),
    reply: client,
    problems: ['not-found'],
  }),
};
