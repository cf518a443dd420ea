import { type AccountMailDocument, operations, Problem, type UserSession } from '@orchard/contract';
import { definedIn, type JsonObject } from '@orchard/core';
import {
  ACCOUNT_MAILS,
  type AccountMail,
  checkMailText,
  fillMail,
  MAIL_LANGUAGES,
  MAIL_SAMPLES,
  type MailText,
  mailText,
} from '@orchard/core/accounts';
import { bind, type Call, type Environment, environmentOf, type Naming, type Route } from '../../platform/call.js';
import { confirmedUser } from '../users/account.js';
import { callerOf, demandSignUp, entryRules } from '../users/entry.js';
import { presentUser, type SessionRow } from '../users/store.js';
import { fieldRoutes } from './fieldRoutes.js';
import type { AccountFlows } from './flows.js';
import { importUsers } from './importing.js';
import { type AccountMailer, ownTexts } from './mailer.js';
import { listOutbox } from './outbox.js';
import type { Parts } from './parts.js';
import type { Reached, WaysIn } from './ways.js';

type Ground = { parts: Parts; mailer: AccountMailer; flows: AccountFlows; ways: WaysIn };

export function accountRoutes({ parts, mailer, flows, ways }: Ground): Route[] {
  return [...ownRoutes(parts, flows, ways), ...managedRoutes(parts, mailer, flows), ...fieldRoutes(parts)];
}

/** Calls of apps. */
function ownRoutes(parts: Parts, flows: AccountFlows, ways: WaysIn): Route[] {
  const own = operations.accounts;
  const { userStore, userSessions } = parts;
  const forgot = (call: Pick<Call, 'environment' | 'holder' | 'headers' | 'request'>, email: string) =>
    flows.forgotPassword(environmentOf(call), email, callerOf(call).locale);
  const reset = async (call: Pick<Call, 'environment'>, token: string, password: string) => {
    call.environment = await flows.newPassword(token, password);
  };
  const me = (call: Pick<Call, 'environment' | 'user'>) => userStore.named(environmentOf(call), call.user?.id ?? '');
  return [
    bind(operations.users.forgotPassword, async (call) => ({ body: await forgot(call, call.body.email) })),
    bind(operations.users.newPassword, async (call) => {
      await reset(call, call.body.token, call.body.password);
      return { body: undefined };
    }),
    bind(own.confirm, async (call) => {
      const { environment, email } = await flows.confirm(call.body.token);
      call.environment = environment;
      return { body: { email } };
    }),
    bind(own.reset, async (call) => {
      const { body } = call;
      if ('email' in body) return { body: await forgot(call, body.email) };
      await reset(call, body.token, body.password);
      return { body: {} };
    }),
    bind(own.askConfirmation, async (call) => {
      const user = await me(call);
      if (user.email === null || user.emailConfirmedAt)
        throw new Problem(
          'wrong-state',
          user.email === null ? 'A guest has no mail address to confirm.' : 'The mail address is confirmed already.',
        );
      return { body: await flows.askConfirmation(environmentOf(call), user, callerOf(call).locale) };
    }),
    bind(own.changeEmail, async (call) => {
      const user = await confirmedUser(userStore, userSessions, call, call.body.password);
      return { body: await flows.changeEmail(environmentOf(call), user, call.body.email, callerOf(call).locale) };
    }),
    bind(own.askSignIn, async (call) => ({ body: await ways.ask(environmentOf(call), call.body as Reached, callerOf(call).locale) })),
    bind(own.signInByCode, async (call) => ({ body: await ways.byCode(environmentOf(call), callerOf(call), call.body) })),
    bind(own.signInByLink, async (call) => ({ body: await ways.byLink(environmentOf(call), callerOf(call), call.body.token) })),
    bind(own.beginAsGuest, async (call) => ({ body: await ways.asGuest(environmentOf(call), callerOf(call)) })),
    bind(own.becomeUser, async (call) => {
      const environment = environmentOf(call);
      const user = await me(call);
      if (user.email !== null) throw new Problem('wrong-state', 'This is an account already, not a guest.');
      const { email, password, name, terms } = call.body;
      await demandSignUp(environment, { email, terms });
      if (await userStore.findByEmail(environment, email))
        throw new Problem('already-exists', `There is an account for ${email} already. Sign in with it.`);
      const now = new Date(parts.now());
      const changes = { email, name: name ?? user.name, terms: terms ?? null, updatedAt: now };
      await userSessions.demandGood(environment, { ...user, ...changes }, password);
      await userStore.update(environment, user.id, changes);
      await userSessions.setPassword(environment, { ...user, ...changes }, password, 'body.password', call.user?.sessionId ?? null);
      if ((await entryRules.read(environment)).confirm !== 'never')
        await flows.askConfirmation(environment, { ...user, ...changes }, callerOf(call).locale);
      return { body: presentUser(await me(call)) };
    }),
    bind(own.exportMe, async (call) => {
      const environment = environmentOf(call);
      const user = await me(call);
      const sessions = await sessionsOf(parts, environment, user.id, call.user?.sessionId ?? null);
      return {
        body: { account: presentUser(user), sessions, ...(await parts.ports.dataOfUser(environment, user.id)) } as unknown as JsonObject,
      };
    }),
    bind(own.mySessions, async (call) => ({
      body: { items: await sessionsOf(parts, environmentOf(call), call.user?.id ?? '', call.user?.sessionId ?? null) },
    })),
    bind(own.endMySession, async (call) => {
      await endSession(parts, environmentOf(call), call.user?.id ?? '', call.params.session);
      return { body: undefined };
    }),
  ];
}

async function sessionsOf(parts: Parts, environment: Environment, userId: string, current: string | null): Promise<UserSession[]> {
  const rows = await parts.userStore.openSessions(environment, userId, new Date(parts.now()));
  return rows.map((row) => presentSession(row, current));
}

const presentSession = ({ id, client, createdAt, renewedAt, expiresAt, supportBy }: SessionRow, current: string | null): UserSession => ({
  id,
  client,
  startedAt: createdAt.toISOString(),
  renewedAt: renewedAt?.toISOString() ?? null,
  expiresAt: expiresAt.toISOString(),
  isCurrent: id === current,
  support: supportBy !== null,
});

/** @throws {Problem} not-found */
async function endSession(parts: Parts, environment: Environment, userId: string, id: string): Promise<void> {
  const open = await parts.userStore.openSessions(environment, userId, new Date(parts.now()));
  if (!open.some((session) => session.id === id)) throw new Problem('not-found', 'The user has no such session, or it has ended.');
  await parts.userSessions.end(environment, { id }, 'ended by hand');
}

/** Calls of the team. */
function managedRoutes(parts: Parts, mailer: AccountMailer, flows: AccountFlows): Route[] {
  const own = operations.accounts;
  const rulesOf = async (environment: Environment) => ({
    ...(await entryRules.read(environment)),
    mailMissing: (await mailer.way(environment)) === null ? await mailer.missing(environment) : null,
  });
  const named = (call: Naming<{ mail: AccountMail }>) => mailOf(environmentOf(call), call.params.mail);
  return [
    bind(own.rules, async (call) => ({ body: await rulesOf(environmentOf(call)) })),
    bind(
      own.changeRules,
      async (call) => {
        const environment = environmentOf(call);
        entryRules.forget(environment);
        const rules = { ...(await entryRules.read(environment)), ...definedIn(call.body) };
        demandRules(rules);
        await entryRules.write(environment, rules, new Date(parts.now()));
        return { body: await rulesOf(environment) };
      },
      { subject: () => 'entry', read: (call) => entryRules.read(environmentOf(call)) },
    ),
    bind(own.mails, async (call) => ({
      body: { items: await Promise.all(ACCOUNT_MAILS.map((mail) => mailOf(environmentOf(call), mail))) },
    })),
    bind(
      own.writeMail,
      async (call) => {
        const { mail, locale } = call.params;
        demandText(mail, call.body);
        await changeTexts(parts, environmentOf(call), mail, (texts) => ({ ...texts, [locale]: call.body }));
        return { body: await named(call) };
      },
      { subject: (call) => `${call.params.mail} ${call.params.locale}`, read: (call) => named(call) },
    ),
    bind(
      own.resetMail,
      async (call) => {
        const { mail, locale } = call.params;
        if (!(await named(call)).own[locale]) throw new Problem('not-found', `\`${mail}\` has no text of the team in ${locale}.`);
        await changeTexts(parts, environmentOf(call), mail, ({ [locale]: _gone, ...texts }) => texts);
        return { body: undefined };
      },
      { subject: (call) => `${call.params.mail} ${call.params.locale}`, read: (call) => named(call) },
    ),
    bind(own.previewMail, async (call) => {
      const { mail } = call.params;
      const { locale, subject, text } = call.body;
      const before = mailText(mail, locale, await ownTexts.read(environmentOf(call)));
      const shown = { subject: subject ?? before.subject, text: text ?? before.text };
      demandText(mail, shown);
      return { body: fillMail(shown, MAIL_SAMPLES[mail]) };
    }),
    bind(own.testMail, async (call) => {
      const environment = environmentOf(call);
      const way = await mailer.demandWay(environment);
      const { to, locale } = call.body;
      const { mail } = call.params;
      try {
        await mailer.sendNow(environment, { mail, to, locale, values: { ...MAIL_SAMPLES[mail], app: environment.app } });
      } catch (error) {
        throw new Problem('gateway-missing', `${(error as Error).message} Check the gateway for mail.`);
      }
      return { body: { way } };
    }),
    bind(own.outbox, async (call) => ({ body: { items: await listOutbox(environmentOf(call)) } })),
    bind(own.invite, async (call) => ({ body: await flows.invite(environmentOf(call), call.body) }), {
      // Neither the address that opens the account nor personal data outlives it in the audit.
      after: ({ id, roles }) => ({ id, roles }),
    }),
    bind(own.importUsers, async (call) => ({ body: await importUsers(parts, environmentOf(call), call.body.users) }), {
      subject: () => 'import',
      after: ({ added, refused }) => ({ added, refused: refused.length }),
    }),
    bind(own.sessions, async (call) => {
      await parts.userStore.named(environmentOf(call), call.params.user);
      return { body: { items: await sessionsOf(parts, environmentOf(call), call.params.user, null) } };
    }),
    bind(own.beginSupport, async (call) => ({ body: await beginSupport(parts, call) }), {
      subject: (call) => call.params.user,
      // What is kept says why, and holds no token.
      after: ({ session, client, expiresAt }, call) => ({ session, client, expiresAt, reason: call.body.reason }),
    }),
    bind(
      own.endSession,
      async (call) => {
        await endSession(parts, environmentOf(call), call.params.user, call.params.session);
        return { body: undefined };
      },
      { subject: (call) => call.params.user },
    ),
  ];
}

type SupportCall = Pick<Call, 'environment' | 'member'> & {
  params: { user: string };
  body: { reason: string; client?: string | undefined };
};

/** @throws {Problem} not-found, sign-in-refused */
async function beginSupport(parts: Parts, { environment, member, params, body }: SupportCall) {
  const place = environment as Environment;
  const user = await parts.userStore.named(place, params.user);
  const names = await parts.directory.clientNames(place.id);
  const client = body.client ?? names[0] ?? '';
  if (!names.includes(client)) throw new Problem('not-found', `There is no client \`${client}\` in ${place.app}/${place.name}.`);
  const begun = await parts.userSessions.beginSupport(place, user, client, member?.id ?? '');
  const text = `${member?.name} looks at the app as user ${user.id} until ${begun.expiresAt}: ${body.reason}`;
  parts.ports.logEntry(place, { level: 'warning', source: 'support', text });
  return { ...begun, client };
}

/** @throws {Problem} invalid-input for rules that contradict each other */
function demandRules({
  signUp,
  domains,
  linkByMail,
  linkAddress,
}: {
  signUp: string;
  domains: string[];
  linkByMail: boolean;
  linkAddress: string | null;
}): void {
  const refuse = (path: string, problem: string, expected: string) => {
    throw new Problem('invalid-input', problem, { fields: [{ path, problem, expected }] });
  };
  if (signUp === 'domains' && domains.length === 0)
    refuse('body.domains', 'Nobody could sign up: there is no domain.', 'at least one domain, or another rule');
  if (linkByMail && linkAddress === null)
    refuse(
      'body.linkAddress',
      'An address that signs in has to open the app.',
      'the app’s own address with {token}, such as quillfell://account/{kind}?token={token}',
    );
}

async function mailOf(environment: Environment, mail: AccountMail): Promise<AccountMailDocument> {
  const own = (await ownTexts.read(environment))[mail] ?? {};
  const ours = Object.fromEntries(MAIL_LANGUAGES.map((language) => [language, mailText(mail, language)]));
  return { mail, variables: Object.keys(MAIL_SAMPLES[mail]), own, ours };
}

async function changeTexts(
  parts: Parts,
  environment: Environment,
  mail: AccountMail,
  how: (texts: Record<string, MailText>) => Record<string, MailText>,
): Promise<void> {
  ownTexts.forget(environment);
  const texts = await ownTexts.read(environment);
  await ownTexts.write(environment, { ...texts, [mail]: how(texts[mail] ?? {}) }, new Date(parts.now()));
}

/** @throws {Problem} invalid-input */
function demandText(mail: AccountMail, text: MailText): void {
  const wrong = checkMailText(mail, text);
  if (!wrong) return;
  throw new Problem('invalid-input', wrong.problem, {
    fields: [
      {
        path: `body.${wrong.path}`,
        problem: wrong.problem,
        expected: `text with ${Object.keys(MAIL_SAMPLES[mail])
          .map((name) => `{${name}}`)
          .join(', ')}`,
      },
    ],
  });
}
