/** Each environment as an OpenID provider of its own users: the page on which they sign in, and the endpoints that its metadata names. */
import { z } from 'zod';
import { ENVIRONMENT, environmentParams, jsonObject, operation, slug } from '../common.js';

const ISSUER = '/identity/{app}/{environment}';
const anyone = { kind: 'anyone' } as const;
const FORM = ['application/x-www-form-urlencoded'];
/** RFC 6749 section 3.1: parameters that are not known are ignored. */
const parameters = z.looseObject({});
const common = { caller: anyone, params: environmentParams } as const;

const look = {
  name: z.string().trim().min(1).max(60).nullable().describe('What people know the app by; null for its name here'),
  colour: z
    .string()
    .regex(/^#[0-9a-f]{6}$/, 'Six hexadecimal digits in lower case after #, such as #1f7a6c.')
    .nullable(),
};
const picture = z
  .string()
  .max(200_000, 'At most 150 kB.')
  .regex(/^data:image\/(png|jpeg|webp);base64,[A-Za-z0-9+/]+=*$/, 'A PNG, JPEG or WebP picture as data: address (RFC 2397).')
  .nullable();
const page = z
  .object({ ...look, hasPicture: z.boolean(), address: z.string().describe('Where the page is; apps open `authorize` below it') })
  .meta({ id: 'SignInPage' });
export type SignInPageDocument = z.infer<typeof page>;

export const identityOperations = {
  metadata: operation({
    ...common,
    id: 'identity.metadata',
    method: 'GET',
    path: `${ISSUER}/.well-known/openid-configuration`,
    summary: 'The provider’s metadata (OpenID Connect Discovery 1.0)',
    reply: jsonObject,
    problems: ['not-found'],
  }),
  keys: operation({
    ...common,
    id: 'identity.keys',
    method: 'GET',
    path: `${ISSUER}/jwks.json`,
    summary: 'The public keys of tokens (RFC 7517)',
    reply: jsonObject,
    problems: ['not-found'],
  }),
  authorize: operation({
    ...common,
    id: 'identity.authorize',
    rate: 'sign-in',
    method: 'GET',
    path: `${ISSUER}/authorize`,
    summary: 'The page on which people sign in (RFC 6749 section 4.1.1, with RFC 7636)',
    query: parameters,
    reply: z.string(),
    replyTypes: ['text/html'],
    problems: ['not-found'],
  }),
  signIn: operation({
    ...common,
    id: 'identity.signIn',
    rate: 'sign-in',
    method: 'POST',
    path: `${ISSUER}/authorize`,
    summary: 'What the page sends; leads back to the app with a code once somebody has signed in',
    rawBody: FORM,
    reply: z.string(),
    replyTypes: ['text/html'],
    problems: ['not-found'],
  }),
  wayThere: operation({
    ...common,
    id: 'identity.wayThere',
    rate: 'sign-in',
    method: 'GET',
    path: `${ISSUER}/ways/{way}`,
    params: environmentParams.extend({ way: slug }),
    summary: 'Leads from the page to a provider outside',
    reply: z.string(),
    replyTypes: ['text/html'],
    problems: ['not-found'],
  }),
  wayPosted: operation({
    ...common,
    id: 'identity.wayPosted',
    rate: 'sign-in',
    method: 'POST',
    path: `${ISSUER}/ways/{way}/return`,
    params: environmentParams.extend({ way: slug }),
    summary: 'What a provider of SAML posts (SAML 2.0 Bindings, section 3.5); leads back to the page',
    rawBody: FORM,
    reply: z.string(),
    replyTypes: ['text/html'],
    problems: ['not-found'],
  }),
  wayMetadata: operation({
    ...common,
    id: 'identity.wayMetadata',
    method: 'GET',
    path: `${ISSUER}/ways/{way}/metadata`,
    params: environmentParams.extend({ way: slug }),
    summary: 'Our own metadata, for a provider of SAML (SAML 2.0 Metadata)',
    reply: z.string(),
    replyTypes: ['application/samlmetadata+xml'],
    problems: ['not-found'],
  }),
  addAccount: operation({
    ...common,
    id: 'identity.addAccount',
    rate: 'sign-in',
    method: 'GET',
    path: `${ISSUER}/page/add`,
    summary: 'Where a signed-in user adds an account at a provider, by an address that the app asked for',
    query: parameters,
    reply: z.string(),
    replyTypes: ['text/html'],
    problems: ['not-found'],
  }),
  tryWay: operation({
    ...common,
    id: 'identity.tryWay',
    rate: 'sign-in',
    method: 'GET',
    path: `${ISSUER}/page/try`,
    summary: 'Where the team tries a way with a made-up person, by an address that it asked for',
    query: parameters,
    reply: z.string(),
    replyTypes: ['text/html'],
    problems: ['not-found'],
  }),
  picture: operation({
    ...common,
    id: 'identity.picture',
    method: 'GET',
    path: `${ISSUER}/page/picture`,
    summary: 'The team’s picture on the sign-in page',
    reply: z.string(),
    replyTypes: ['image/png', 'image/jpeg', 'image/webp'],
    problems: ['not-found'],
  }),
  relatedOrigins: operation({
    ...common,
    id: 'identity.relatedOrigins',
    method: 'GET',
    path: `${ISSUER}/.well-known/webauthn`,
    summary: 'Origins that may use the passkeys of users (WebAuthn Level 3, section 5.11); also at the root of the page’s own host',
    reply: z.object({ origins: z.array(z.string()) }),
    problems: ['not-found'],
  }),
  page: operation({
    id: 'identity.page',
    command: 'sign-in-page show',
    method: 'GET',
    path: `${ENVIRONMENT}/accounts/page`,
    summary: 'How the sign-in page looks, and where it is',
    caller: { kind: 'member', role: 'viewer' },
    params: environmentParams,
    reply: page,
  }),
  changePage: operation({
    id: 'identity.changePage',
    changes: 'sign-in page',
    command: 'sign-in-page set',
    method: 'PATCH',
    path: `${ENVIRONMENT}/accounts/page`,
    summary: 'Change the name, colour and picture of the sign-in page',
    caller: { kind: 'member', role: 'developer' },
    params: environmentParams,
    body: z.strictObject({ ...look, picture: picture.optional() }).partial(),
    reply: page,
    problems: ['invalid-input'],
  }),
  wayBack: operation({
    ...common,
    id: 'identity.wayBack',
    rate: 'sign-in',
    method: 'GET',
    path: `${ISSUER}/ways/{way}/return`,
    params: environmentParams.extend({ way: slug }),
    summary: 'Where a provider outside leads back to',
    query: parameters,
    reply: z.string(),
    replyTypes: ['text/html'],
    problems: ['not-found'],
  }),
  token: operation({
    ...common,
    id: 'identity.token',
    rate: 'sign-in',
    method: 'POST',
    path: `${ISSUER}/token`,
    summary: 'Exchanges a code or a refresh token (RFC 6749 sections 4.1.3 and 6); errors as in its section 5.2',
    rawBody: FORM,
    reply: jsonObject,
    problems: ['not-found'],
  }),
  revoke: operation({
    ...common,
    id: 'identity.revoke',
    rate: 'sign-in',
    method: 'POST',
    path: `${ISSUER}/revoke`,
    summary: 'Ends the session of a token (RFC 7009)',
    rawBody: FORM,
    reply: jsonObject,
    problems: ['not-found'],
  }),
  introspect: operation({
    ...common,
    id: 'identity.introspect',
    rate: 'sign-in',
    method: 'POST',
    path: `${ISSUER}/introspect`,
    summary: 'Whether a token is good, for a backend with a server key of `users:read` as its Basic password (RFC 7662)',
    rawBody: FORM,
    reply: jsonObject,
    problems: ['not-found'],
  }),
  userInfo: operation({
    ...common,
    id: 'identity.userInfo',
    method: 'GET',
    path: `${ISSUER}/userinfo`,
    summary: 'Claims about the user of an access token (OpenID Connect Core section 5.3)',
    reply: jsonObject,
    problems: ['not-found', 'token-missing', 'token-invalid', 'token-expired', 'session-ended'],
  }),
};
