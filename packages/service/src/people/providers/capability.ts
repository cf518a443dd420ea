import type { Capability } from '../../platform/capability.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { OutsideWays } from './outsideWays.js';
import type { Parts } from './parts.js';
import { providerRoutes } from './routes.js';
import { removeTokens } from './tokenSql.js';
import { allWays } from './ways.js';

export type ProviderOffer = { outsideWays: OutsideWays };

export function providers(parts: Parts): Capability<ProviderOffer> {
  const outside = new OutsideWays(parts);
  parts.ports.providerTokens = {
    accessToken: (environment, userId, way) => outside.tokens.accessToken(environment, userId, way),
    release: (environment, userId) => outside.tokens.forget(environment, { userId }),
  };
  parts.ports.roleGroups = async (environment) =>
    (await allWays(environment)).flatMap(([way, { roles }]) => Object.entries(roles).map(([group, role]) => ({ role, way, group })));
  return {
    name: 'providers',
    offer: { outsideWays: outside },
    routes: providerRoutes(parts, outside),
    stop: () => outside.close(),
    onUserRemoved: ({ on, environment, userId }) => removeTokens(on, environment, userId),
    recurring: [
      {
        work: 'forget sign-ins at providers that were not finished',
        everyMs: HOUR_MS,
        eachEnvironment: (environment) => outside.store.forget(environment, new Date(parts.now())),
      },
      {
        work: 'refresh what providers handed out',
        everyMs: 60_000,
        eachEnvironment: (environment) => outside.tokens.refreshDue(environment),
      },
    ],
  };
}
