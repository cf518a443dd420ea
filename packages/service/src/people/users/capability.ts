import { forgetGuesses } from '../../platform/access/guesses.js';
import type { Capability } from '../../platform/capability.js';
import { latestSql } from '../../platform/live/marks.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { meKinds } from '@orchard/core/accounts';
import { fieldsForRules, fieldsIn } from './fields.js';
import type { Parts } from './parts.js';
import { eraseAgain, removeDue } from './account.js';
import { hasOldTriggers } from '../../platform/live/tables.js';
import { writeUserTriggers } from './userFeedDdl.js';
import { giveAllRuleRoles } from './roles.js';
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
    if (!found) return null;
    const { user, session } = found;
    const fields = await fieldsForRules(environment, user);
    return {
      userId: user.id,
      roles: user.roles,
      fields,
      ended: session.endedAt !== null,
      disabled: user.disabled,
      support: session.supportBy,
    };
  };
  parts.ports.userFields = async (environment) => meKinds(await fieldsIn(environment));
  parts.ports.goodSessions = async (environment, ids) => {
    const users = await store.goodSessions(environment, ids, new Date(parts.now()));
    const rights = [...users].map(
      async ([id, user]) => [id, { roles: user.roles, fields: await fieldsForRules(environment, user) }] as const,
    );
    return new Map(await Promise.all(rights));
  };
  parts.ports.eraseUser = (environment, userId) => eraseAgain(parts, store, environment, userId);
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
        work: 'give roles by rule',
        everyMs: HOUR_MS,
        eachEnvironment: (environment) => giveAllRuleRoles(store, environment, parts.now()),
      },
      {
        work: 'forget failed sign-ins of users',
        everyMs: HOUR_MS,
        eachEnvironment: ({ db }) => forgetGuesses({ database: db, now: parts.now }, db.of(guessTable)),
      },
    ],
    onEnvironmentCreated: ({ db }) => writeUserTriggers(db),
    upgrade: { needed: async (environments) => environments.filter(hasOldTriggers), run: ({ db }) => writeUserTriggers(db) },
    marks: [{ name: 'users', of: ({ db }) => ({ sql: latestSql(db.of(userTable), 'updatedAt') }) }],
  };
}
