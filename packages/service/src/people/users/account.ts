/** Users and their own accounts: the password, and deletion. */
import { operations, Problem } from '@orchard/contract';
import { THE_SERVICE, writeActor } from '@orchard/core';
import { WRONG_PASSWORD } from '../../platform/access/passwords.js';
import { authorOf, bind, type Call, type Environment, environmentOf, type Route } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { callerOf, entryRules } from './entry.js';
import type { Sessions } from './sessions.js';
import type { UserRow, UserStore } from './store.js';

const DAY_MS = 86_400_000;

export function accountRoutes(parts: Parts, store: UserStore, sessions: Sessions): Route[] {
  const own = operations.users;
  return [
    bind(own.changePassword, async (call) => {
      const user = await confirmedUser(store, sessions, call, call.body.password);
      await sessions.setPassword(environmentOf(call), user, call.body.newPassword, 'body.newPassword', call.user?.sessionId ?? null);
      return { body: undefined };
    }),
    bind(own.removeMe, async (call) => {
      const { id } = await confirmedUser(store, sessions, call, call.body.password);
      const environment = environmentOf(call);
      const { graceDays } = await entryRules.read(environment);
      if (graceDays === 0) await removeUser(parts, store, environment, id, { by: authorOf(call), locale: callerOf(call).locale });
      else {
        await store.update(environment, id, { deleteAt: new Date(parts.now() + graceDays * DAY_MS), updatedAt: new Date(parts.now()) });
        await sessions.end(environment, { userId: id }, 'account deleted');
      }
      return { body: undefined };
    }),
  ];
}

/** The signed-in user, who has just confirmed the password. @throws {Problem} sign-in-refused, rate-exceeded */
export async function confirmedUser(
  store: UserStore,
  sessions: Sessions,
  call: Pick<Call, 'environment' | 'user' | 'request'>,
  password: string,
): Promise<UserRow> {
  const environment = environmentOf(call);
  const user = await store.find(environment, call.user?.id ?? '');
  if (!user) throw new Problem('session-ended');
  // A guest has neither address nor password.
  if (user.email === null) throw new Problem('sign-in-refused', WRONG_PASSWORD);
  await sessions.demandPassword(environment, user.email, user, { password, address: call.request.ip ?? '', words: WRONG_PASSWORD });
  return user;
}

/**
 * Deletes a user with everything that belongs to that user alone.
 * @throws {Problem} not-found, still-referenced
 */
export async function removeUser(
  parts: Parts,
  store: UserStore,
  environment: Environment,
  id: string,
  { by, locale }: { by: string; locale: string },
): Promise<void> {
  const user = await store.find(environment, id);
  const removed = await store.remove({ environment, userId: id, by }, parts.ports.userRemoved);
  if (!removed) throw new Problem('not-found', `There is no user ${id}.`);
  if (user) parts.ports.accounts.deleted(environment, user, locale);
  parts.userTokens.forget({ userId: id });
  parts.changes.wake(environment.id);
}

/**
 * Erases a user who was erased before and came back with a backup. Where records still need the user, the account stays without
 * anything that says who it was.
 * @returns false when there is no such user
 */
export async function eraseAgain(parts: Parts, store: UserStore, environment: Environment, id: string): Promise<boolean> {
  const by = writeActor(THE_SERVICE);
  try {
    return await store.remove({ environment, userId: id, by }, parts.ports.userRemoved);
  } catch (error) {
    if (!(error instanceof Problem) || error.problem !== 'still-referenced') throw error;
    await store.makeNameless(environment, id, new Date(parts.now()));
    return true;
  }
}

/** Deletes the accounts whose grace is over. One that records still need waits for the team. */
export async function removeDue(parts: Parts, store: UserStore, environment: Environment): Promise<void> {
  for (const { id } of await store.dueForDeletion(environment, new Date(parts.now()))) {
    try {
      await removeUser(parts, store, environment, id, { by: `user:${id}`, locale: 'en' });
    } catch (error) {
      if (!(error instanceof Problem) || error.problem !== 'still-referenced') throw error;
    }
  }
}
