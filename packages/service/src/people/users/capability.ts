import { forgetGuesses } from '../../platform/access/guesses.js';
import type { Capability } from '../../platform/capability.js';
import { latestSql } from '../../platform/live/marks.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import type { Parts } from './parts.js';
import { userRoutes } from './routes.js';
import { UserStore } from './store.js';

export function users(parts: Parts): Capability {
  const store = new UserStore(parts.database);
  parts.ports.findSession = async (environment, id) => {
    const found = await store.findSession(environment, id);
    return (
      found && { userId: found.user.id, roles: found.user.roles, ended: found.session.endedAt !== null, disabled: found.user.disabled }
    );
  };
  parts.ports.goodSessions = (environment, ids) => store.goodSessions(environment, ids, new Date(parts.now()));
  return {
    name: 'users',
    routes: userRoutes(parts, store),
    periodic: [
      {
        work: 'forget old guesses',
        everyMs: HOUR_MS,
        atStart: true,
        eachEnvironment: ({ database }) => forgetGuesses(parts, `\`${database}\`._guesses`),
      },
    ],
    marks: [{ name: 'users', of: ({ database }) => ({ sql: latestSql(`\`${database}\`._users`, 'updatedAt') }) }],
  };
}
