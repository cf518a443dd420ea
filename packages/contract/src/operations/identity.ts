/** Each environment as an OpenID provider of its own users: the page on which they sign in, and the endpoints that its metadata names. */
import { z } from 'zod';
import { environmentParams, jsonObject, operation } from '../common.js';

const ISSUER = '/identity/{app}/{environment}';
const anyone = { kind: 'anyone' } as const;
const FORM = ['application/x-www-form-urlencoded'];
/** RFC 6749 section 3.1: parameters that are not known are ignored. */
const parameters = z.looseObject({});
const common = { caller: anyone, params: environmentParams } as const;

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
