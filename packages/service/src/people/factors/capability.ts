import type { Capability } from '../../platform/capability.js';
import { removeFactors } from './factorSql.js';
import type { Parts } from './parts.js';
import { factorRoutes } from './routes.js';
import { UserFactors } from './userFactors.js';

export type UserFactorOffer = { userFactors: UserFactors };

export function userFactors(parts: Parts): Capability<UserFactorOffer> {
  const factors = new UserFactors(parts);
  parts.ports.userFactors = {
    demand: (environment, userId, client) => factors.demand(environment, userId, client),
    has: (environment, userId) => factors.has(environment, userId),
  };
  return {
    name: 'user factors',
    offer: { userFactors: factors },
    routes: factorRoutes(parts, factors),
    onUserRemoved: ({ on, environment, userId }) => removeFactors(on, environment, userId),
  };
}
