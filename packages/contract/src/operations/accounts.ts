/** Accounts of users: how they come about, ways in without a password, mails about them, and what is a person's own. */
import { ACCOUNT_MAILS, USER_FIELD_TYPES } from '@orchard/core/words';
import { z } from 'zod';
import {
  appData,
  email,
  ENVIRONMENT,
  environmentParams,
  givenPassword,
  jsonObject,
  linkToken,
  nothing,
  operation,
  password,
  slug,
  time,
  uuid,
} from '../common.js';
import { phone, role, tokens, user, userName } from './users.js';

export const SIGN_UP_RULES = ['open', 'domains', 'invited', 'closed'] as const;
export const CONFIRM_RULES = ['never', 'asked', 'first'] as const;
export const mailLocale = z
  .string()
  .regex(/^[A-Za-z]{2,3}(-[A-Za-z0-9]{2,8})*$/, 'A BCP 47 language tag, such as nb-NO.')
  .max(35);
const version = z.string().regex(/^\d+(\.\d+){0,3}$/, 'Numbers with dots, such as 2.6.1.');
export const mailKind = z.enum(ACCOUNT_MAILS);

export const entryRulesShape = {
  signUp: z
    .enum(SIGN_UP_RULES)
    .describe(
      '`open`: anybody; `domains`: mail addresses of `domains`; `invited`: whoever the team or a backend invites; `closed`: nobody',
    ),
  domains: z.array(z.string().regex(/^[a-z0-9-]+(\.[a-z0-9-]+)+$/, 'A domain in lower case, such as quillfell.example.')).max(100),
  guests: z.boolean().describe('Whether people may begin without an account, and make it one later'),
  confirm: z
    .enum(CONFIRM_RULES)
    .describe(
      'Whether a sign-up is mailed an address to confirm its own: `never`, `asked`, or `first`: a password signs in only afterwards',
    ),
  codeByMail: z.boolean().describe('Whether a code sent by mail signs in'),
  codeBySms: z.boolean().describe('Whether a code sent to a verified number signs in'),
  linkByMail: z.boolean().describe('Whether an address sent by mail signs in; it needs `linkAddress`'),
  linkAddress: z
    .string()
    .max(300)
    .regex(
      /^[a-z][a-z0-9+.-]*:\/\/\S*\{token\}\S*$/,
      'An address with {token}, and {kind} if wanted, such as quillfell://account/{kind}?token={token}.',
    )
    .nullable()
    .describe('Where the addresses in mails lead: an app’s own scheme or https; null for the pages of this service'),
  leastPassword: z.int().min(8).max(64).describe('How many characters a password must have at least'),
  commonPasswords: z.boolean().describe('Whether passwords from lists of common ones are accepted'),
  freeGuesses: z
    .int()
    .min(3)
    .max(50)
    .describe(
      'How many sign-ins to an account may fail at one address before each further one has to wait, longer and longer; from all addresses five times as many',
    ),
  longestWaitMin: z.int().min(1).max(60).describe('How many minutes that wait is at most'),
  mostSessions: z
    .int()
    .min(1)
    .max(100)
    .nullable()
    .describe('Sessions of a user at once; a further one ends the oldest. 1: one device only'),
  terms: z.string().min(1).max(40).nullable().describe('The version of the terms that a sign-up must accept'),
  leastVersions: z.record(z.string().max(40), version).describe('By client: the oldest version of the app that may sign in or renew'),
  redirects: z
    .record(
      z.string().max(40),
      z
        .array(
          z
            .string()
            .max(500)
            .regex(
              /^[a-z][a-z0-9+.-]*:\/\/?[^#\s]*$/i,
              'An address without a fragment, such as quillfell://signed-in or https://huts.quillfell.example/signed-in.',
            ),
        )
        .max(20),
    )
    .describe('By client: where the sign-in page may return to, in full; of a loopback address any port'),
  passkeyDomain: z
    .string()
    .max(253)
    .regex(/^[a-z0-9-]+(\.[a-z0-9-]+)*$/, 'A host name in lower case, such as quillfell.example.')
    .nullable()
    .describe('The domain that passkeys of users belong to, such as the app’s own; null for the host of the sign-in page'),
  passkeyOrigins: z
    .array(
      z
        .string()
        .max(200)
        .regex(
          /^(https?:\/\/[^/\s]+|android:apk-key-hash:[\w-]+)$/,
          'An origin, such as https://huts.quillfell.example, or android:apk-key-hash:….',
        ),
    )
    .max(20)
    .describe('Pages and apps besides that domain that use the passkeys; a browser asks the domain’s /.well-known/webauthn for them'),
  graceDays: z.int().min(0).max(90).describe('How many days a deleted account can come back, by signing in; 0: it is gone at once'),
  tellNewSignIn: z.boolean().describe('Whether a mail tells users of a sign-in from a new place'),
  tellDeleted: z.boolean().describe('Whether a mail tells users that their account is deleted'),
};
const entryRules = z
  .object({ ...entryRulesShape, mailMissing: z.string().nullable().describe('Why mails cannot be sent, in words; null when they can') })
  .meta({ id: 'EntryRules' });
export type EntryRules = Omit<z.infer<typeof entryRules>, 'mailMissing'>;

export const mailText = { subject: z.string().trim().min(1).max(200), text: z.string().trim().min(1).max(10_000) };
const written = z.object({ subject: z.string(), text: z.string() });
const accountMail = z
  .object({
    mail: mailKind,
    variables: z.array(z.string()),
    own: z.record(z.string(), written).describe('Texts of the team, by language'),
    ours: z.record(z.string(), written).describe('As they come, by language'),
  })
  .meta({ id: 'AccountMail' });
export type AccountMailDocument = z.infer<typeof accountMail>;

const outboxMail = z
  .object({ id: z.string(), at: time, mail: mailKind, to: z.string(), locale: z.string(), subject: z.string(), text: z.string() })
  .meta({ id: 'OutboxMail' });
export type OutboxMail = z.infer<typeof outboxMail>;

const userSession = z
  .object({
    id: z.string(),
    client: z.string(),
    startedAt: time,
    renewedAt: time.nullable(),
    expiresAt: time,
    isCurrent: z.boolean().describe('Whether the call was made with it'),
    support: z.boolean().describe('Whether a member of the team looks at the app in the user’s name'),
  })
  .meta({ id: 'UserSession' });
export type UserSession = z.infer<typeof userSession>;

const bound = z.union([z.number(), z.string().max(40)]);
const userFieldShape = {
  type: z.enum(USER_FIELD_TYPES),
  description: z.string().max(500).optional(),
  required: z.boolean().optional(),
  min: bound.optional(),
  max: bound.optional(),
  minLength: z.int().min(0).optional(),
  maxLength: z.int().min(0).optional(),
  pattern: z.string().max(200).optional(),
  choices: z.array(z.string().min(1).max(100)).min(1).max(200).optional(),
  seenBy: z.enum(['user', 'servers']).default('user').describe('Whether users see it of themselves, or only the team and its servers'),
  changedBy: z.enum(['user', 'servers']).default('user').describe('Whether users change it, or only the team and its servers'),
};
export const userField = z.strictObject(userFieldShape).meta({ id: 'UserField' });
const namedUserField = z.object({ name: z.string(), ...userFieldShape });
export type NamedUserField = z.output<typeof namedUserField>;
const ofField = environmentParams.extend({
  field: z
    .string()
    .regex(/^[A-Za-z_][A-Za-z0-9_]{0,62}$/, 'A letter or _, then up to 62 letters, digits or _.')
    .refine((name) => name !== '__proto__', 'Another name: JSON libraries take this one for something else.'),
});

const importedUser = z.strictObject({
  email,
  name: userName.optional(),
  phone: phone.optional(),
  roles: z.array(role).max(20).optional(),
  data: appData.optional(),
  passwordHash: z.string().max(500).optional().describe('argon2, bcrypt, scrypt or PBKDF2 in the PHC string format'),
  emailConfirmed: z.boolean().optional(),
  createdAt: time.optional(),
});
export type ImportedUser = z.infer<typeof importedUser>;

const signedIn = { kind: 'app', user: 'required' } as const;
const anApp = { kind: 'app', user: 'optional' } as const;
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;
const ACCOUNTS = `${ENVIRONMENT}/accounts`;
const sent = z.object({
  address: z.string().optional().describe('The one-time address itself: in `dev`, while it has no gateway for mail'),
});
const oneMail = environmentParams.extend({ mail: mailKind });
const ofUser = environmentParams.extend({ user: uuid });
const REACHED = z.union([z.strictObject({ email }), z.strictObject({ phone })]);

export const accountOperations = {
  confirm: operation({
    id: 'accounts.confirm',
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/users/confirm',
    summary: 'Confirm a mail address, or its change, with the token of a mail',
    caller: { kind: 'anyone' },
    body: z.strictObject({ token: linkToken }),
    reply: z.object({ email: z.string() }),
    problems: ['link-refused', 'already-exists'],
  }),
  reset: operation({
    id: 'accounts.reset',
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/users/reset',
    summary: 'With an address: mail a one-time address for a new password. With its token: set the password',
    caller: anApp,
    body: z.union([z.strictObject({ email }), z.strictObject({ token: linkToken, password })]),
    status: 202,
    reply: sent,
    problems: ['gateway-missing', 'rate-exceeded', 'link-refused'],
  }),
  askConfirmation: operation({
    id: 'accounts.askConfirmation',
    ownerOnly: true,
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/users/me/confirmation',
    summary: 'Mail the signed-in user the address that confirms theirs, again',
    caller: signedIn,
    status: 202,
    reply: sent,
    problems: ['gateway-missing', 'rate-exceeded', 'wrong-state'],
  }),
  changeEmail: operation({
    id: 'accounts.changeEmail',
    ownerOnly: true,
    rate: 'sign-in',
    method: 'PUT',
    path: '/app/v1/users/me/email',
    summary: 'Change the mail address of the signed-in user: it holds once it was confirmed from the new one',
    caller: signedIn,
    body: z.strictObject({ email, password: givenPassword }),
    status: 202,
    reply: sent,
    problems: ['sign-in-refused', 'gateway-missing', 'rate-exceeded'],
  }),
  askSignIn: operation({
    id: 'accounts.askSignIn',
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/sign-in-codes',
    summary: 'Send a code, or an address, with which somebody signs in without a password; the response is the same without an account',
    caller: anApp,
    body: z.union([z.strictObject({ email, as: z.enum(['code', 'link']).default('code') }), z.strictObject({ phone })]),
    status: 202,
    reply: sent.extend({
      code: z.string().optional().describe('The code itself: in `dev`, while it has no gateway for mail'),
      expiresAt: time,
    }),
    problems: ['access-refused', 'gateway-missing', 'rate-exceeded'],
  }),
  signInByCode: operation({
    id: 'accounts.signInByCode',
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/sessions/code',
    summary: 'Sign in with the code that was sent',
    caller: anApp,
    body: z.union([z.strictObject({ email, code: z.string().max(20) }), z.strictObject({ phone, code: z.string().max(20) })]),
    status: 201,
    reply: tokens,
    problems: ['second-factor-needed', 'code-refused', 'rate-exceeded', 'app-outdated', 'sign-in-refused'],
  }),
  signInByLink: operation({
    id: 'accounts.signInByLink',
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/sessions/link',
    summary: 'Sign in with the token of the address that was sent; opening the address alone uses nothing up',
    caller: anApp,
    body: z.strictObject({ token: linkToken }),
    status: 201,
    reply: tokens,
    problems: ['second-factor-needed', 'link-refused', 'rate-exceeded', 'app-outdated', 'sign-in-refused'],
  }),
  beginAsGuest: operation({
    id: 'accounts.beginAsGuest',
    hooked: { subject: 'users', action: 'create', value: { reply: 'user' } },
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/sessions/guest',
    summary: 'Begin without an account: a user with an id and sessions, and no address yet',
    caller: anApp,
    status: 201,
    reply: tokens,
    problems: ['access-refused', 'rate-exceeded', 'app-outdated'],
  }),
  becomeUser: operation({
    id: 'accounts.becomeUser',
    ownerOnly: true,
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/users/me/account',
    summary: 'Make a guest an account; everything they own stays theirs',
    caller: signedIn,
    body: z.strictObject({ email, password, name: userName.optional(), terms: z.string().max(40).optional() }),
    reply: user,
    problems: ['already-exists', 'wrong-state', 'access-refused'],
  }),
  exportMe: operation({
    id: 'accounts.exportMe',
    ownerOnly: true,
    rate: 'sign-in',
    method: 'GET',
    path: '/app/v1/users/me/export',
    summary: 'All that is kept of the signed-in user, as one JSON document: account, sessions, devices, topics, records, events',
    caller: signedIn,
    reply: jsonObject,
  }),
  mySessions: operation({
    id: 'accounts.mySessions',
    method: 'GET',
    path: '/app/v1/users/me/sessions',
    summary: 'Where the signed-in user is signed in',
    caller: signedIn,
    reply: z.object({ items: z.array(userSession) }),
  }),
  endMySession: operation({
    id: 'accounts.endMySession',
    ownerOnly: true,
    method: 'DELETE',
    path: '/app/v1/users/me/sessions/{session}',
    summary: 'End another session of the signed-in user',
    caller: signedIn,
    params: z.object({ session: z.string().max(64) }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  rules: operation({
    id: 'accounts.rules',
    command: 'sign-up show',
    method: 'GET',
    path: `${ACCOUNTS}/rules`,
    summary: 'Who may have an account, and how people get in',
    caller: viewer,
    params: environmentParams,
    reply: entryRules,
  }),
  changeRules: operation({
    id: 'accounts.changeRules',
    changes: 'entry rules',
    command: 'sign-up set',
    method: 'PATCH',
    path: `${ACCOUNTS}/rules`,
    summary: 'Change who may have an account, and how people get in',
    caller: maintainer,
    params: environmentParams,
    body: z.strictObject(entryRulesShape).partial(),
    reply: entryRules,
    problems: ['invalid-input'],
  }),
  mails: operation({
    id: 'accounts.mails',
    command: 'account-mail list',
    method: 'GET',
    path: `${ACCOUNTS}/mails`,
    summary: 'The mails about accounts, with the team’s own texts',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(accountMail) }),
  }),
  writeMail: operation({
    id: 'accounts.writeMail',
    changes: 'account mail',
    command: 'account-mail set',
    method: 'PUT',
    path: `${ACCOUNTS}/mails/{mail}/{locale}`,
    summary: 'Write a mail in the team’s own words, in one language',
    caller: developer,
    params: oneMail.extend({ locale: mailLocale }),
    body: z.strictObject(mailText),
    reply: accountMail,
    problems: ['invalid-input'],
  }),
  resetMail: operation({
    id: 'accounts.resetMail',
    changes: 'account mail',
    command: 'account-mail reset',
    method: 'DELETE',
    path: `${ACCOUNTS}/mails/{mail}/{locale}`,
    summary: 'Take back the team’s own words of a mail in one language',
    caller: developer,
    params: oneMail.extend({ locale: mailLocale }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  previewMail: operation({
    id: 'accounts.previewMail',
    command: 'account-mail preview',
    changes: 'nothing',
    method: 'POST',
    path: `${ACCOUNTS}/mails/{mail}/preview`,
    summary: 'A mail as it would be sent, with made-up values',
    caller: viewer,
    params: oneMail,
    body: z.strictObject({ locale: mailLocale.default('en'), subject: mailText.subject.optional(), text: mailText.text.optional() }),
    reply: written,
    problems: ['invalid-input'],
  }),
  testMail: operation({
    id: 'accounts.testMail',
    command: 'account-mail test',
    changes: 'nothing',
    method: 'POST',
    path: `${ACCOUNTS}/mails/{mail}/test`,
    summary: 'Send a mail with made-up values to an address',
    caller: developer,
    params: oneMail,
    body: z.strictObject({ to: email, locale: mailLocale.default('en') }),
    status: 202,
    reply: z.object({ way: z.enum(['gateway', 'outbox']).describe('`outbox`: shown in the console, in `dev` without a gateway') }),
    problems: ['gateway-missing'],
  }),
  outbox: operation({
    id: 'accounts.outbox',
    command: 'account-mail outbox',
    method: 'GET',
    path: `${ACCOUNTS}/outbox`,
    summary: 'Mails that `dev` shows because it has no gateway for mail, latest first',
    caller: developer,
    params: environmentParams,
    reply: z.object({ items: z.array(outboxMail) }),
  }),
  fields: operation({
    id: 'accounts.fields',
    command: 'user-field list',
    method: 'GET',
    path: `${ACCOUNTS}/fields`,
    summary: 'The fields of users that the team has defined',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(namedUserField) }),
  }),
  defineField: operation({
    id: 'accounts.defineField',
    changes: 'user field',
    command: 'user-field set',
    method: 'PUT',
    path: `${ACCOUNTS}/fields/{field}`,
    summary: 'Define a field of users: its type, constraints, who sees it and who changes it',
    caller: maintainer,
    params: ofField,
    body: userField,
    reply: namedUserField.extend({
      misfits: z.int().describe('Users whose value of before does not fit; it stays as it is until it is changed, and no rule sees it'),
    }),
    problems: ['invalid-input'],
  }),
  removeField: operation({
    id: 'accounts.removeField',
    changes: 'user field',
    command: 'user-field remove',
    method: 'DELETE',
    path: `${ACCOUNTS}/fields/{field}`,
    summary: 'Take the definition of a field of users back; the values stay in their data',
    caller: maintainer,
    params: ofField,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  invite: operation({
    id: 'accounts.invite',
    changes: 'user',
    command: 'user invite',
    method: 'POST',
    path: `${ENVIRONMENT}/users/invitations`,
    summary: 'Create an account and mail its owner the address for choosing a password',
    caller: developer,
    params: environmentParams,
    body: z.strictObject({ email, name: userName.optional(), roles: z.array(role).max(20).optional(), locale: mailLocale.default('en') }),
    status: 201,
    reply: user.extend({ address: z.string().optional() }),
    problems: ['already-exists', 'gateway-missing'],
  }),
  importUsers: operation({
    id: 'accounts.importUsers',
    changes: 'user',
    method: 'POST',
    path: `${ENVIRONMENT}/users/import`,
    summary: 'Take over accounts from another system, with the hashes of their passwords; an address that is taken is left alone',
    caller: maintainer,
    params: environmentParams,
    body: z.strictObject({ users: z.array(importedUser).min(1).max(500) }),
    reply: z.object({
      added: z.int(),
      refused: z.array(z.object({ index: z.int(), email: z.string(), problem: z.string() })),
    }),
  }),
  sessions: operation({
    id: 'accounts.sessions',
    command: 'user sessions',
    method: 'GET',
    path: `${ENVIRONMENT}/users/{user}/sessions`,
    summary: 'Where a user is signed in',
    caller: viewer,
    params: ofUser,
    reply: z.object({ items: z.array(userSession) }),
    problems: ['not-found'],
  }),
  beginSupport: operation({
    id: 'accounts.beginSupport',
    changes: 'user session',
    confirmed: true,
    command: 'user sign-in-as',
    method: 'POST',
    path: `${ENVIRONMENT}/users/{user}/support-sessions`,
    summary:
      'Look at the app as a user, for support: a token of half an hour, without what only the owner may do; each response says so in Orchard-Support',
    caller: { kind: 'member', role: 'maintainer', person: true },
    params: ofUser,
    body: z.strictObject({
      reason: z.string().trim().min(3).max(300).describe('Kept in the audit'),
      client: slug.optional().describe('The client of which a key is sent with the token; the first one otherwise'),
    }),
    status: 201,
    reply: z.object({ session: z.string(), client: z.string(), accessToken: z.string(), expiresAt: time }),
    problems: ['not-found', 'sign-in-refused'],
  }),
  endSession: operation({
    id: 'accounts.endSession',
    changes: 'user session',
    command: 'user end-session',
    method: 'DELETE',
    path: `${ENVIRONMENT}/users/{user}/sessions/{session}`,
    summary: 'End a session of a user',
    caller: developer,
    params: ofUser.extend({ session: z.string().max(64) }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
};
export type SignInTarget = z.infer<typeof REACHED>;
