/** What users do about their own accounts: passwords, and the end of it. */
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
  /** The signed-in user, who has just given the password once more. */
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
      // The token says which environment it is of: whoever opens the address has no key.
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
 * Sends a one-time address, where there is such an account; to the caller it looks the same where there is none. In
 * `dev` without a gateway for mail it is shown instead.
 */
async function forgotPassword(parts: Parts, store: UserStore, environment: Environment, email: string): Promise<{ address?: string }> {
  const gateway = await parts.gateways.openFor(environment, 'mail');
  const shown = !gateway && explainsRefusals(environment);
  if (!gateway && !shown)
    throw new Problem(
      'gateway-missing',
      `${environment.app}/${environment.name} has no gateway for mail, so that no address can be sent. Add one with \`orchard gateway add\`.`,
    );
  const user = await store.findByEmail(environment, email);
  const link = user && !user.disabled ? await makeLink({ ...parts, database: environment.db }, linksOf(environment), user.id) : null;
  if (!link) return {};
  const address = `${parts.address()}/new-password?of=user&token=${environment.id}.${link.token}`;
  if (!gateway) return { address };
  const { subject, text } = linkMail(environment.app, address);
  // Not waited for: how long it takes would tell that there is such an account.
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
    if (outcome.kind !== 'accepted') throw new Error(`The mail server did not take it: ${outcome.reason}`);
  });
  return {};
}

/** Deletes a user with all that is only theirs. @throws {Problem} not-found, still-referenced */
export async function removeUser(parts: Parts, store: UserStore, call: Call, id: string): Promise<void> {
  const environment = environmentOf(call);
  const removed = await store.remove({ environment, userId: id, by: authorOf(call) }, parts.ports.userRemoved);
  if (!removed) throw new Problem('not-found', `There is no user ${id}.`);
  parts.userTokens.forget({ userId: id });
  parts.changes.wake(environment.id);
}
