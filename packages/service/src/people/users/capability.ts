import { forgetGuesses } from '../../platform/access/guesses.js';
import type { Capability } from '../../platform/capability.js';
import { latestSql } from '../../platform/live/marks.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import type { Parts } from './parts.js';
import { removeDue } from './account.js';
import { userRoutes } from './routes.js';
import { Sessions } from './sessions.js';
import { UserStore } from './store.js';
import { userTable } from './tables.js';
import { guessTable } from '../../platform/access/tables.js';

export type UserOffer = { userStore: UserStore; userSessions: Sessions };

export function users(parts: Parts): Capability<UserOffer> {
  const store = new UserStore();
  const sessions = new Sessions(parts, store);
  parts.ports.findSession = async (environment, id) => {
    const found = await store.findSession(environment, id);
    return (
      found && { userId: found.user.id, roles: found.user.roles, ended: found.session.endedAt !== null, disabled: found.user.disabled }
    );
  };
  parts.ports.goodSessions = (environment, ids) => store.goodSessions(environment, ids, new Date(parts.now()));
  return {
    name: 'users',
    offer: { userStore: store, userSessions: sessions },
    routes: userRoutes(parts, store, sessions),
    recurring: [
      {
        work: 'delete accounts whose grace is over',
        everyMs: HOUR_MS,
        eachEnvironment: (environment) => removeDue(parts, store, environment),
      },
      {
        work: 'forget failed sign-ins of users',
        everyMs: HOUR_MS,
        eachEnvironment: ({ db }) => forgetGuesses({ database: db, now: parts.now }, db.of(guessTable)),
      },
    ],
    marks: [{ name: 'users', of: ({ db }) => ({ sql: latestSql(db.of(userTable), 'updatedAt') }) }],
  };
}
