import { type App, operations, Problem } from '@orchard/contract';
import { demandConfirmed } from '../../platform/access/confirmation.js';
import { orNone } from '../../platform/audit/audit.js';
import { bind, type Call, environmentOf, type Naming, type Route, type SignedInMember } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { AppStore, presentEnvironment } from './store.js';
import { forgetBlockedOrigin, listBlockedOrigins } from './blockedOriginStore.js';

export function appRoutes(parts: Parts): Route[] {
  const store = new AppStore(parts);
  const { apps, environments, clients } = operations;
  const memberOf = (call: Pick<Call, 'member'>) => call.member as SignedInMember;
  const app = async (call: Naming<{ app: string }>) =>
    (await store.list(memberOf(call))).find(({ name }) => name === call.params.app) ?? null;
  const environment = async (call: Naming<unknown>) => {
    const now = await parts.directory.environmentById(environmentOf(call).id);
    return now && presentEnvironment(now, call.role ?? 'viewer', call.heldBack);
  };
  const client = { read: (call: Naming<{ client: string }>) => orNone(store.client(environmentOf(call), call.params.client)) };
  const key = async (call: Naming<{ client: string; key: string }>) =>
    (await orNone(store.client(environmentOf(call), call.params.client)))?.keys.find(({ id }) => id === call.params.key) ?? null;
  return [
    bind(apps.list, async (call) => ({ body: { items: await store.list(memberOf(call)) } })),
    bind(apps.create, async (call) => ({ body: await store.createApp(call.body.name, call.body.title ?? call.body.name) }), {
      as: 'apart',
    }),
    bind(
      apps.patch,
      async (call) => {
        await store.changeApp(call.params.app, call.body);
        return { body: (await app(call)) as App };
      },
      { read: app },
    ),
    bind(
      apps.remove,
      async (call) => {
        await store.removeApp(call.params.app);
        return { body: undefined };
      },
      { as: 'apart', read: app },
    ),
    bind(environments.create, async (call) => ({ body: await store.createEnvironment(call.params.app, call.body) }), { as: 'apart' }),
    bind(environments.read, async (call) => ({ body: presentEnvironment(environmentOf(call), call.role ?? 'viewer', call.heldBack) })),
    bind(
      environments.patch,
      async (call) => {
        const before = environmentOf(call);
        await store.changeEnvironment(before, call.body);
        const { mode = before.mode, widening = before.widening } = call.body;
        return { body: presentEnvironment({ ...before, mode, widening }, call.role ?? 'viewer', call.heldBack) };
      },
      { read: environment },
    ),
    bind(
      environments.remove,
      async (call) => {
        await store.removeEnvironment(environmentOf(call));
        return { body: undefined };
      },
      { as: 'apart', read: environment },
    ),
    bind(clients.connection, async (call) => {
      const { app: name, name: environmentName } = environmentOf(call);
      const { name: client, kind } = (call.holder as NonNullable<typeof call.holder>).client;
      return { body: { app: name, environment: environmentName, client, kind: kind as never, at: new Date(parts.now()).toISOString() } };
    }),
    bind(clients.list, async (call) => ({ body: { items: await store.listClients(environmentOf(call)) } })),
    bind(clients.create, async (call) => {
      const { name, kind, packageIdentifier, project, origins } = call.body;
      return {
        body: await store.createClient(environmentOf(call), {
          name,
          kind,
          packageIdentifier: packageIdentifier ?? null,
          project: project ?? null,
          origins: origins ?? [],
        }),
      };
    }),
    bind(clients.patch, async (call) => ({ body: await store.changeClient(environmentOf(call), call.params.client, call.body) }), client),
    bind(clients.profile, async (call) => {
      const client = await store.client(environmentOf(call), call.params.client);
      const key = client.keys.findLast(({ kind, revokedAt }) => kind === 'client' && !revokedAt)?.key;
      if (!key) throw new Problem('not-found', `The client \`${client.name}\` has no client key. Create one first.`);
      const { app, name } = environmentOf(call);
      return {
        body: { address: parts.address(), app, environment: name, client: client.name, clientKey: key },
        headers: { 'Content-Disposition': 'attachment; filename="orchard-client.json"' },
      };
    }),
    bind(clients.createKey, async (call) => {
      const client = await store.client(environmentOf(call), call.params.client);
      const kind = client.kind === 'server' ? 'server' : 'client';
      const { scopes = [] } = call.body;
      const wrong = (problem: string, expected: string) =>
        new Problem('invalid-input', problem, { fields: [{ path: 'body.scopes', problem, expected }] });
      if (kind === 'client' && scopes.length > 0)
        throw wrong('A client key has no scopes: access rules decide what it may do.', 'no scopes');
      if (kind === 'server' && scopes.length === 0)
        throw wrong('A server key needs at least one scope.', 'some of the scopes, such as notify:send');
      if (kind === 'server') await demandConfirmed(call, parts);
      return { body: await store.createKey(environmentOf(call), client.name, kind, call.body.name, scopes) };
    }),
    bind(
      clients.revokeKey,
      async (call) => {
        await store.revokeKey(environmentOf(call), call.params.client, call.params.key);
        return { body: undefined };
      },
      { read: key },
    ),
    bind(clients.blockedOrigins, async (call) => {
      const rows = await listBlockedOrigins(parts, environmentOf(call).id);
      return {
        body: {
          items: rows.map(({ environmentId: _, ...row }) => ({
            ...row,
            firstAt: row.firstAt.toISOString(),
            lastAt: row.lastAt.toISOString(),
          })),
        },
      };
    }),
    bind(
      clients.allowOrigin,
      async (call) => {
        const environment = environmentOf(call);
        const client = await store.client(environment, call.params.client);
        const origins = [...new Set([...client.origins, call.body.origin])];
        const changed = await store.changeClient(environment, client.name, { origins });
        await forgetBlockedOrigin(parts, environment.id, client.name, call.body.origin);
        return { body: changed };
      },
      client,
    ),
  ];
}
