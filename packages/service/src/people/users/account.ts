/** Users and their own accounts: passwords and deletion. */
import { operations, Problem } from '@orchard/contract';
import { linkMail, type LinkTable, makeLink, takeLink } from '../../platform/access/oneTimeLinks.js';
import { WRONG_PASSWORD } from '../../platform/access/passwords.js';
import { authorOf, bind, type Call, type Environment, environmentOf, explainsRefusals, type Route } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { guarded } from '../../platform/upkeep.js';
import type { Sessions } from './sessions.js';
import type { UserRow, UserStore } from './store.js';
import { userLinkTable } from './tables.js';

const linksOf = (environment: Environment): LinkTable => ({ table: environment.db.of(userLinkTable), owner: 'userId' });

export function accountRoutes(parts: Parts, store: UserStore, sessions: Sessions): Route[] {
  const own = operations.users;
  /** The signed-in user, who has just confirmed the password. */
  async function confirmed(call: Pick<Call, 'environment' | 'user' | 'request'>, password: string): Promise<UserRow> {
    const environment = environmentOf(call);
    const user = await store.find(environment, call.user?.id ?? '');
    if (!user) throw new Problem('session-ended');
    await sessions.demandPassword(environment, user.email, user, { password, address: call.request.ip ?? '', words: WRONG_PASSWORD });
    return user;
  }
  return [
    bind(own.forgotPassword, async (call) => ({ body: await forgotPassword(parts, store, environmentOf(call), call.body.email) })),
    bind(own.newPassword, async (call) => {
      // The token names its environment: the address is opened without a key.
      const [id = '', token = ''] = call.body.token.split('.');
      const environment = await parts.directory.environmentById(id);
      if (!environment) throw new Problem('link-refused');
      call.environment = environment;
      const user = await takeLink({ ...parts, database: environment.db }, linksOf(environment), token, async (userId) => {
        const found = await store.find(environment, userId);
        if (!found) throw new Problem('link-refused');
        sessions.demandGood(environment, found, call.body.password, 'body.password');
        return found;
      });
      await sessions.setPassword(environment, user, call.body.password, 'body.password', null);
      return { body: undefined };
    }),
    bind(own.changePassword, async (call) => {
      const user = await confirmed(call, call.body.password);
      await sessions.setPassword(environmentOf(call), user, call.body.newPassword, 'body.newPassword', call.user?.sessionId ?? null);
      return { body: undefined };
    }),
    bind(own.removeMe, async (call) => {
      const { id } = await confirmed(call, call.body.password);
      await removeUser(parts, store, call, id);
      return { body: undefined };
    }),
  ];
}

/**
 * Sends a one-time address if the account exists; the response is the same if it does not. In `dev` without a mail gateway,
 * returns it instead.
 */
async function forgotPassword(parts: Parts, store: UserStore, environment: Environment, email: string): Promise<{ address?: string }> {
  const gateway = await parts.gateways.openFor(environment, 'mail');
  const shown = !gateway && explainsRefusals(environment);
  if (!gateway && !shown)
    throw new Problem(
      'gateway-missing',
      `${environment.app}/${environment.name} has no gateway for mail, so no one-time address can be sent. Add one with \`orchard gateway add\`.`,
    );
  const user = await store.findByEmail(environment, email);
  const link = user && !user.disabled ? await makeLink({ ...parts, database: environment.db }, linksOf(environment), user.id) : null;
  if (!link) return {};
  const address = `${parts.address()}/new-password?of=user&token=${environment.id}.${link.token}`;
  if (!gateway) return { address };
  const { subject, text } = linkMail(environment.app, address);
  // Not awaited: its duration would reveal whether the account exists.
  void guarded(parts, 'mail a one-time address', { environment: environment.id }, async () => {
    const outcome = await gateway.sender.send({
      notification: {
        id: parts.newId(),
        sentAt: new Date(parts.now()).toISOString(),
        urgency: 'high',
        replaces: null,
        expiresAt: link.expiresAt.getTime(),
      },
      content: { title: subject, body: text },
      overlay: undefined,
      target: { target: email, platform: 'mail', locale: 'en', timeZone: 'UTC' },
      ttlS: 3_600,
      attempt: 1,
    });
    if (outcome.kind !== 'accepted') throw new Error(`The mail server did not accept it: ${outcome.reason}`);
  });
  return {};
}

/**
 * Deletes a user with everything that belongs to that user alone.
 * @throws {Problem} not-found, still-referenced
 */
export async function removeUser(parts: Parts, store: UserStore, call: Call, id: string): Promise<void> {
  const environment = environmentOf(call);
  const removed = await store.remove({ environment, userId: id, by: authorOf(call) }, parts.ports.userRemoved);
  if (!removed) throw new Problem('not-found', `There is no user ${id}.`);
  parts.userTokens.forget({ userId: id });
  parts.changes.wake(environment.id);
}
