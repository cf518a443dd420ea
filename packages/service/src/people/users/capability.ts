import { forgetGuesses } from '../../platform/access/guesses.js';
import type { Capability } from '../../platform/capability.js';
import { latestSql } from '../../platform/live/marks.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import type { Parts } from './parts.js';
import { userRoutes } from './routes.js';
import { UserStore } from './store.js';
import { userTable } from './tables.js';
import { guessTable } from '../../platform/access/tables.js';

export function users(parts: Parts): Capability {
  const store = new UserStore();
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
    recurring: [
      {
        work: 'forget failed sign-ins of users',
        everyMs: HOUR_MS,
        eachEnvironment: ({ db }) => forgetGuesses({ database: db, now: parts.now }, db.of(guessTable)),
      },
    ],
    marks: [{ name: 'users', of: ({ db }) => ({ sql: latestSql(db.of(userTable), 'updatedAt') }) }],
  };
}
