import { operations, Problem } from '@orchard/contract';
import { bind, type Call, environmentOf, type Route, type SignedInMember } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { AppStore, presentEnvironment } from './store.js';
import { forgetBlockedOrigin, listBlockedOrigins } from './blockedOrigins.js';

export function appRoutes(parts: Parts): Route[] {
  const store = new AppStore(parts);
  const { apps, environments, clients } = operations;
  const memberOf = (call: Pick<Call, 'member'>) => call.member as SignedInMember;
  return [
    bind(apps.list, async (call) => ({ body: { items: await store.list(memberOf(call)) } })),
    bind(apps.create, async (call) => ({ body: await store.createApp(call.body.name, call.body.title ?? call.body.name) })),
    bind(apps.remove, async (call) => {
      await store.removeApp(call.params.app);
      return { body: undefined };
    }),
    bind(environments.create, async (call) => ({ body: await store.createEnvironment(call.params.app, call.body) })),
    bind(environments.read, async (call) => ({ body: presentEnvironment(environmentOf(call), call.role ?? 'viewer') })),
    bind(environments.patch, async (call) => {
      const before = environmentOf(call);
      await store.changeEnvironment(before, call.body);
      const { mode = before.mode, widening = before.widening } = call.body;
      return { body: presentEnvironment({ ...before, mode, widening }, call.role ?? 'viewer') };
    }),
    bind(environments.remove, async (call) => {
      await store.removeEnvironment(environmentOf(call));
      return { body: undefined };
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
    bind(clients.patch, async (call) => ({ body: await store.changeClient(environmentOf(call), call.params.client, call.body) })),
    bind(clients.profile, async (call) => {
      const client = await store.client(environmentOf(call), call.params.client);
      const key = client.keys.findLast(({ kind, revokedAt }) => kind === 'client' && !revokedAt)?.key;
      if (!key) throw new Problem('not-found', `The client \`${client.name}\` has no client key. Make one first.`);
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
      return { body: await store.createKey(environmentOf(call), client.name, kind, call.body.name, scopes) };
    }),
    bind(clients.revokeKey, async (call) => {
      await store.revokeKey(environmentOf(call), call.params.client, call.params.key);
      return { body: undefined };
    }),
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
    bind(clients.allowOrigin, async (call) => {
      const environment = environmentOf(call);
      const client = await store.client(environment, call.params.client);
      const origins = [...new Set([...client.origins, call.body.origin])];
      const changed = await store.changeClient(environment, client.name, { origins });
      await forgetBlockedOrigin(parts, environment.id, client.name, call.body.origin);
      return { body: changed };
    }),
  ];
}
