/** Ways to sign in at providers outside: set up by the team, used by apps, listed by users. */
import { z } from 'zod';
import { ENVIRONMENT, environmentParams, nothing, operation, slug, time } from '../common.js';
import type { ProblemName } from '../problems.js';
import { role, tokens } from './users.js';

export const WAY_KINDS = ['openid', 'oauth', 'saml', 'directory', 'tokens'] as const;
export type WayKind = (typeof WAY_KINDS)[number];

const WAYS = `${ENVIRONMENT}/accounts/ways`;
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;
const signedIn = { kind: 'app', user: 'required' } as const;
const anApp = { kind: 'app', user: 'optional' } as const;
/** Of a sign-in at a provider, whoever brings the proof. */
const MEETING_PROBLEMS: ProblemName[] = [
  'not-found',
  'sign-in-refused',
  'second-factor-needed',
  'already-exists',
  'access-refused',
  'rate-exceeded',
  'app-outdated',
  'busy',
];
const ofWay = environmentParams.extend({ way: slug });

const address = (what: string) => z.url({ protocol: /^https?$/, error: what }).max(500);
const clientId = z.string().trim().min(1).max(200).describe('As the provider gave it');
const scopes = z.array(z.string().regex(/^[\x21\x23-\x5b\x5d-\x7e]+$/, 'A scope without spaces.')).max(20);
const member = z.string().min(1).max(100);
const keepTokens = z
  .boolean()
  .default(false)
  .describe('Whether what the provider hands out is kept, encrypted and fresh, for functions of the team; apps never get it');

const common = {
  title: z.string().trim().min(1).max(60).describe('As its button says'),
  clients: z.array(z.string().max(40)).max(50).default([]).describe('Clients of ours that may use it; none: all'),
  roles: z
    .record(z.string().min(1).max(300), role)
    .default({})
    .describe('Roles by the provider’s groups: whoever is in the group has the role, from the next sign-in on'),
};

/** What a provider calls the things we need. */
const claims = z
  .strictObject({
    id: member.default('sub').describe('What stays the same for a person'),
    email: member.default('email'),
    emailProved: member.default('email_verified').describe('Whether the provider has proved the address'),
    name: member.default('name'),
    groups: member.default('groups'),
  })
  .prefault({});

const openid = z.strictObject({
  ...common,
  kind: z.literal('openid').describe('`openid`, the default; `oauth`, `saml`, `directory` or `tokens`'),
  issuer: address('The address of the provider, without /.well-known/openid-configuration.'),
  clientId,
  scopes: scopes.default(['openid', 'email', 'profile']),
  groupsClaim: member.default('groups'),
  nativeClientIds: z.array(clientId).max(20).default([]).describe('Client ids of apps that hand over ID tokens they got by themselves'),
  endpoints: z
    .strictObject({
      authorize: address('Where people sign in.'),
      token: address('Where a code is exchanged.'),
      keys: address('The JSON Web Key Set (RFC 7517).'),
      revoke: address('Where tokens are revoked (RFC 7009).').optional(),
    })
    .nullable()
    .default(null)
    .describe('For a provider without a discovery document'),
  keepTokens,
});
const oauth = z.strictObject({
  ...common,
  kind: z.literal('oauth'),
  authorizeAddress: address('Where people sign in (RFC 6749 section 3.1).'),
  tokenAddress: address('Where a code is exchanged (RFC 6749 section 3.2).'),
  personAddress: address('What answers, with the access token, who it is: a JSON object.'),
  revokeAddress: address('Where tokens are revoked (RFC 7009).').nullable().default(null),
  clientId,
  scopes: scopes.default([]),
  claims,
  keepTokens,
});
const saml = z.strictObject({
  ...common,
  kind: z.literal('saml'),
  metadata: z.string().trim().min(1).max(200_000).describe('The provider’s metadata, as XML'),
  attributes: z
    .strictObject({
      email: z.string().max(200).default('email'),
      name: z.string().max(200).default('name'),
      groups: z.string().max(200).default('groups'),
    })
    .prefault({}),
  emailProved: z.boolean().default(false).describe('Whether the provider vouches for the addresses it sends'),
  skewS: z.int().min(0).max(300).default(30).describe('How far the clocks may differ, in seconds'),
});
const directory = z.strictObject({
  ...common,
  kind: z.literal('directory'),
  address: z
    .url({ protocol: /^ldaps?$/, error: 'ldaps://host, or ldap://host, which is upgraded with StartTLS.' })
    .max(300)
    .describe('LDAP is never spoken without TLS: `ldap:` is upgraded with StartTLS'),
  trust: z
    .string()
    .max(20_000)
    .nullable()
    .default(null)
    .describe('PEM of the authority of its certificate, where that is not a public one'),
  bindDn: z.string().max(500).describe('The account that may search'),
  base: z.string().min(1).max(500).describe('Where people are searched'),
  filter: z
    .string()
    .max(500)
    .regex(/\{user\}/, 'A filter (RFC 4515) with {user}, such as (uid={user}).')
    .default('(uid={user})'),
  attributes: z.strictObject({ id: member.default('entryUUID'), email: member.default('mail'), name: member.default('cn') }).prefault({}),
  groups: z
    .strictObject({
      base: z.string().min(1).max(500),
      filter: z
        .string()
        .max(500)
        .regex(/\{dn\}/, 'A filter with {dn}, such as (member={dn}).')
        .default('(member={dn})'),
      name: member.default('cn'),
    })
    .nullable()
    .default(null)
    .describe('Where groups are searched, groups within groups included'),
  emailProved: z.boolean().default(false).describe('Whether the directory vouches for the addresses in it'),
});
const foreign = z.strictObject({
  ...common,
  kind: z.literal('tokens'),
  issuer: z.string().min(1).max(500).describe('`iss` of its tokens'),
  audience: z.string().min(1).max(500).describe('`aud` that its tokens for this app have'),
  keysAddress: address('The JSON Web Key Set (RFC 7517).'),
  claims,
});
const secret = { secret: z.string().min(1).max(500).optional().describe('Where the provider gave one; the password of `bindDn`') };
const DEFAULT_KIND = { kind: 'openid' };
/** Without a kind it is a provider of OpenID Connect. */
const withKind = (value: unknown): unknown => (typeof value === 'object' && value !== null ? { ...DEFAULT_KIND, ...value } : value);
export const newSignInWay = z.preprocess(
  withKind,
  z.discriminatedUnion('kind', [openid.extend(secret), oauth.extend(secret), saml, directory.extend(secret), foreign]),
);
type Settings =
  | z.output<typeof openid>
  | z.output<typeof oauth>
  | z.output<typeof saml>
  | z.output<typeof directory>
  | z.output<typeof foreign>;
export type SignInWaySettings = Settings;
export type NewSignInWay = Settings & { secret?: string | undefined };

const shown = {
  name: z.string(),
  hasSecret: z.boolean(),
  redirectAddress: z.string().nullable().describe('To be listed at the provider'),
  metadataAddress: z.string().nullable().describe('Of SAML: our own metadata, for the provider'),
};
export const signInWay = z
  .discriminatedUnion('kind', [
    openid.extend(shown),
    oauth.extend(shown),
    saml.extend(shown),
    directory.extend(shown),
    foreign.extend(shown),
  ])
  .meta({ id: 'SignInWay' });
export type SignInWayDocument = z.output<typeof signInWay>;

const step = z.object({ what: z.string(), ok: z.boolean(), text: z.string() });
export const steps = z.object({ ok: z.boolean(), steps: z.array(step) });
export type WaySteps = z.output<typeof steps>;

export const tried = z
  .strictObject({
    user: z.string().max(200).optional().describe('Of a directory: somebody to look up'),
    password: z.string().max(256).optional().describe('The password of that user, to try it'),
    token: z.string().min(1).max(20_000).optional().describe('Of tokens of another issuer: one to try'),
  })
  .prefault({});

const account = z
  .object({
    id: z.string(),
    way: z.string().nullable().describe('Null when the way has been removed'),
    title: z.string(),
    account: z.string().describe('As the provider names the person'),
    addedAt: time,
  })
  .meta({ id: 'ProviderAccount' });
export type ProviderAccount = z.output<typeof account>;

export const signInWayOperations = {
  list: operation({
    id: 'signInWays.list',
    command: 'sign-in-way list',
    method: 'GET',
    path: WAYS,
    summary: 'Providers outside at which people sign in',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(signInWay) }),
  }),
  put: operation({
    id: 'signInWays.put',
    changes: 'sign-in way',
    command: 'sign-in-way add',
    method: 'PUT',
    path: `${WAYS}/{way}`,
    summary:
      'Let people sign in at a provider outside: OpenID Connect, OAuth 2.0, SAML 2.0, an LDAP directory, or tokens of another issuer; without `secret`, the one before stays',
    caller: maintainer,
    params: ofWay,
    body: newSignInWay,
    reply: signInWay,
    problems: ['invalid-input'],
  }),
  remove: operation({
    id: 'signInWays.remove',
    changes: 'sign-in way',
    command: 'sign-in-way remove',
    method: 'DELETE',
    path: `${WAYS}/{way}`,
    summary: 'Take a provider away; the accounts of those who came by it stay',
    caller: maintainer,
    params: ofWay,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  copy: operation({
    id: 'signInWays.copy',
    changes: 'sign-in way',
    command: 'sign-in-way copy',
    method: 'POST',
    path: `${WAYS}/{way}/copy`,
    summary: 'Take a way over from another environment, with its secret; clients that are not here are left out',
    caller: maintainer,
    params: ofWay,
    body: z.strictObject({
      app: slug.describe('The app that has the way; you are a maintainer there, too'),
      environment: slug,
      way: slug.optional().describe('Its name there, where it is another one'),
    }),
    status: 201,
    reply: signInWay,
    problems: ['not-found', 'already-exists', 'access-refused'],
  }),
  check: operation({
    id: 'signInWays.check',
    changes: 'nothing',
    command: 'sign-in-way check',
    method: 'POST',
    path: `${WAYS}/{way}/check`,
    summary: 'Whether a provider can be used: step by step, up to the first that fails',
    caller: developer,
    params: ofWay,
    body: tried,
    reply: steps,
    problems: ['not-found'],
  }),
  tryOut: operation({
    id: 'signInWays.tryOut',
    changes: 'nothing',
    command: 'sign-in-way try',
    method: 'POST',
    path: `${WAYS}/{way}/trials`,
    summary: 'An address to open in the browser: there a made-up person signs in at the provider, and a page shows the answer of each step',
    caller: developer,
    params: ofWay,
    status: 201,
    reply: z.object({ address: z.string(), expiresAt: time }),
    problems: ['not-found', 'wrong-state'],
  }),
  nonce: operation({
    id: 'signInWays.nonce',
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/sign-in-nonces',
    summary: 'A nonce for an ID token that the app gets by itself; it works once, for ten minutes',
    caller: anApp,
    body: z.strictObject({ way: slug }),
    status: 201,
    reply: z.object({ nonce: z.string(), expiresAt: time }),
    problems: ['not-found'],
  }),
  signInByToken: operation({
    id: 'signInWays.signInByToken',
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/sessions/token',
    summary: 'Sign in with an ID token that the app got by itself, or with a token of another issuer',
    caller: anApp,
    body: z.strictObject({ way: slug, token: z.string().min(1).max(20_000) }),
    status: 201,
    reply: tokens,
    problems: MEETING_PROBLEMS,
  }),
  signInAtDirectory: operation({
    id: 'signInWays.signInAtDirectory',
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/sessions/directory',
    summary: 'Sign in with a name and password of a directory',
    caller: anApp,
    body: z.strictObject({ way: slug, user: z.string().min(1).max(200), password: z.string().min(1).max(256) }),
    status: 201,
    reply: tokens,
    problems: MEETING_PROBLEMS,
  }),
  mine: operation({
    id: 'signInWays.mine',
    method: 'GET',
    path: '/app/v1/users/me/provider-accounts',
    summary: 'The accounts at providers by which the signed-in user signs in',
    caller: signedIn,
    reply: z.object({ items: z.array(account), password: z.boolean().describe('Whether a password signs in, too') }),
  }),
  addMine: operation({
    id: 'signInWays.addMine',
    ownerOnly: true,
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/users/me/provider-accounts',
    summary: 'An address to open in the browser: there the signed-in user adds an account at a provider. Or hand over a token of it',
    caller: signedIn,
    body: z.union([
      z.strictObject({ way: slug, token: z.string().min(1).max(20_000) }),
      z.strictObject({
        way: slug,
        redirectUri: z.string().max(500).describe('Where it returns to, with `added` or `error`; one of the client’s addresses'),
      }),
    ]),
    status: 201,
    reply: z.object({ address: z.string().nullable().describe('Null when a token has added it already') }),
    problems: ['not-found', 'already-exists', 'invalid-input', 'sign-in-refused', 'rate-exceeded', 'busy'],
  }),
  removeMine: operation({
    id: 'signInWays.removeMine',
    ownerOnly: true,
    method: 'DELETE',
    path: '/app/v1/users/me/provider-accounts/{account}',
    summary: 'Take an account at a provider away from the signed-in user; the last way in stays',
    caller: signedIn,
    params: z.object({ account: z.string().max(64) }),
    status: 204,
    reply: nothing,
    problems: ['not-found', 'wrong-state'],
  }),
  ofUser: operation({
    id: 'signInWays.ofUser',
    command: 'user provider-accounts',
    method: 'GET',
    path: `${ENVIRONMENT}/users/{user}/provider-accounts`,
    summary: 'The accounts at providers by which a user signs in',
    caller: viewer,
    params: environmentParams.extend({ user: z.uuid() }),
    reply: z.object({ items: z.array(account), password: z.boolean() }),
    problems: ['not-found'],
  }),
};
