/** A provider of OpenID Connect and OAuth 2.0, by the engine `oidc-provider`, with people, clients and faults. */
import { generateKeyPairSync } from 'node:crypto';
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { decodeJwt, exportJWK, type JWK, SignJWT } from 'jose';
import type Provider from 'oidc-provider';
import { CLOCK_OFF_MS, type IdentityFault, SLOW_MS } from './faults.js';
import { PROVIDER_PEOPLE, type ProviderPerson } from './people.js';

export const PROVIDER_CLIENT = { id: 'quillfell-huts', secret: 'ridge-client-secret' };

export type OpenIdProvider = {
  issuer: string;
  client: typeof PROVIDER_CLIENT;
  /** Where a person is described to an access token, for OAuth 2.0 without OpenID Connect. */
  personAddress: string;
  /** Lists an address at which people may come back. */
  allow: (redirectUri: string | RegExp) => void;
  fault: (fault: IdentityFault) => void;
  /** An ID token as an app of its own would get one. */
  idToken: (person: ProviderPerson, changes?: IdTokenChanges) => Promise<string>;
  /** Tokens that were taken back, and refreshed ones, as the engine saw them. */
  seen: { revoked: number; refreshed: number };
  stop: () => Promise<void>;
};
export type IdTokenChanges = { nonce?: string; audience?: string | string[]; issuer?: string; ageS?: number; azp?: string };

type Key = { kid: string; privateKey: ReturnType<typeof generateKeyPairSync>['privateKey']; jwk: JWK };

async function makeKey(kid: string): Promise<Key> {
  const { privateKey, publicKey } = generateKeyPairSync('rsa', { modulusLength: 2048 });
  return { kid, privateKey, jwk: { ...(await exportJWK(publicKey)), kid, alg: 'RS256', use: 'sig' } };
}

/** Loads the engine, which is large, without its words about the version of Node and a memory that ends with the process. */
async function engineOf(issuer: string, settings: object): Promise<Provider> {
  const { warn } = console;
  console.warn = (...words) => {
    if (!String(words[0]).includes('oidc-provider WARNING')) warn(...words);
  };
  try {
    const { default: Engine } = await import('oidc-provider');
    return new Engine(issuer, settings as never);
  } finally {
    console.warn = warn;
  }
}

export async function startOpenIdProvider({
  port = 0,
  people = PROVIDER_PEOPLE,
}: {
  port?: number;
  people?: readonly ProviderPerson[];
} = {}): Promise<OpenIdProvider> {
  const [own, stranger] = await Promise.all([makeKey('ridge-1'), makeKey('ridge-1')]);
  const server = createServer();
  await new Promise<void>((done) => server.listen(port, '127.0.0.1', done));
  const issuer = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  const allowed: (string | RegExp)[] = [];
  const seen = { revoked: 0, refreshed: 0 };
  let fault: IdentityFault = 'none';
  const named = (id: string) => people.find((person) => person.id === id);

  const provider = await engineOf(issuer, {
    clients: [
      {
        client_id: PROVIDER_CLIENT.id,
        client_secret: PROVIDER_CLIENT.secret,
        redirect_uris: [`${issuer}/nowhere`],
        grant_types: ['authorization_code', 'refresh_token'],
        token_endpoint_auth_method: 'client_secret_post',
      },
    ],
    jwks: { keys: [{ ...((await exportJWK(own.privateKey)) as JWK), kid: own.kid, alg: 'RS256', use: 'sig' }] as never },
    cookies: { keys: ['made-up'] },
    claims: { openid: ['sub'], email: ['email', 'email_verified'], profile: ['name', 'groups'] },
    conformIdTokenClaims: false,
    scopes: ['openid', 'email', 'profile', 'offline_access'],
    features: { devInteractions: { enabled: false }, revocation: { enabled: true }, userinfo: { enabled: true } },
    issueRefreshToken: async () => true,
    ttl: { AccessToken: 60, RefreshToken: 86_400, IdToken: 600, Interaction: 600, Session: 600, Grant: 86_400 },
    pkce: { required: () => true },
    findAccount: async (_context: unknown, id: string) => {
      const person = named(id);
      return person && { accountId: id, claims: async () => claimsOf(person) };
    },
    interactions: { url: (_context: unknown, { uid }: { uid: string }) => `/sign-in/${uid}` },
  });
  provider.Client.prototype.redirectUriAllowed = (uri: string) =>
    allowed.some((one) => (typeof one === 'string' ? one === uri : one.test(uri)));

  provider.use(async (context, next) => {
    if (fault === 'slow') await new Promise((done) => setTimeout(done, SLOW_MS));
    await next();
    context.set('date', new Date(Date.now() + (fault === 'clock-off' ? CLOCK_OFF_MS : 0)).toUTCString());
    if (context.path === '/jwks' && fault === 'changed-keys') context.body = { keys: [stranger.jwk] };
    if (context.path === '/token/revocation' && context.status === 200) seen.revoked++;
    if (context.path !== '/token' || typeof context.body !== 'object' || context.body === null) return;
    const body = context.body as { id_token?: string; refresh_token?: string };
    const form = (context as unknown as { oidc?: { params?: { grant_type?: string } } }).oidc?.params;
    if (form?.grant_type === 'refresh_token' && context.status === 200) seen.refreshed++;
    if (context.path === '/token' && context.status === 200 && fault === 'revoked') {
      context.status = 400;
      context.body = { error: 'invalid_grant' };
    } else if (body.id_token) body.id_token = await faulty(body.id_token);
  });

  /** The same ID token, with what is wrong now. */
  async function faulty(token: string): Promise<string> {
    const shiftS = fault === 'clock-off' ? CLOCK_OFF_MS / 1000 : fault === 'expired' ? -3600 : 0;
    if (shiftS === 0 && fault !== 'wrong-signature') return token;
    const claims = decodeJwt(token);
    const moved = { ...claims, iat: (claims.iat ?? 0) + shiftS, exp: (claims.exp ?? 0) + shiftS };
    return signed(moved, fault === 'wrong-signature' ? stranger : own);
  }
  const signed = (claims: object, key: Key) =>
    new SignJWT({ ...claims }).setProtectedHeader({ alg: 'RS256', kid: key.kid }).sign(key.privateKey);

  const engine = provider.callback();
  server.on('request', (incoming, outgoing) => {
    const path = new URL(incoming.url ?? '/', issuer).pathname;
    if (path.startsWith('/sign-in/')) void signIn(incoming, outgoing).catch((error: Error) => outgoing.writeHead(400).end(error.message));
    else if (path === '/person') void describe(incoming, outgoing);
    else engine(incoming, outgoing);
  });

  async function signIn(incoming: IncomingMessage, outgoing: ServerResponse) {
    const { params } = await provider.interactionDetails(incoming, outgoing);
    if (incoming.method !== 'POST')
      return void outgoing
        .setHeader('content-type', 'text/html; charset=utf-8')
        .end(
          '<!doctype html><title>Simulated provider</title><main><form method="post"><label>User <input name="user"></label><label>Password <input name="password" type="password"></label><button>Sign in</button></form></main>',
        );
    const parts: Buffer[] = [];
    for await (const part of incoming) parts.push(part as Buffer);
    const form = new URLSearchParams(Buffer.concat(parts).toString());
    const person = people.find(({ user, password }) => user === form.get('user') && password === form.get('password'));
    if (!person || fault === 'revoked') return provider.interactionFinished(incoming, outgoing, { error: 'access_denied' });
    const grant = new provider.Grant({ accountId: person.id, clientId: String(params.client_id) });
    grant.addOIDCScope(String(params.scope ?? ''));
    await provider.interactionFinished(incoming, outgoing, { login: { accountId: person.id }, consent: { grantId: await grant.save() } });
  }

  async function describe(incoming: IncomingMessage, outgoing: ServerResponse) {
    const token = await provider.AccessToken.find((incoming.headers.authorization ?? '').replace(/^Bearer /, ''));
    const person = token && named(token.accountId);
    if (!person) return void outgoing.writeHead(401).end();
    const { id, email, name } = person;
    outgoing
      .setHeader('content-type', 'application/json')
      .end(JSON.stringify({ number: id, contact: email, verified: person.emailProved, called: name }));
  }

  return {
    issuer,
    client: PROVIDER_CLIENT,
    personAddress: `${issuer}/person`,
    allow: (redirectUri) => void allowed.push(redirectUri),
    fault: (next) => {
      fault = next;
    },
    idToken: (person, { nonce, audience = PROVIDER_CLIENT.id, issuer: by = issuer, ageS = 0, azp } = {}) => {
      const now = Math.floor(Date.now() / 1000) - ageS;
      const claims = {
        ...claimsOf(person),
        iss: by,
        aud: audience,
        iat: now,
        exp: now + 3600,
        ...(nonce ? { nonce } : {}),
        ...(azp ? { azp } : {}),
      };
      return signed(claims, fault === 'wrong-signature' ? stranger : own);
    },
    seen,
    stop: () =>
      new Promise((done) => {
        server.close(() => done());
        server.closeAllConnections();
      }),
  };
}

const claimsOf = ({ id, email, emailProved, name, groups }: ProviderPerson) => ({
  sub: id,
  email,
  email_verified: emailProved,
  name,
  groups,
});
