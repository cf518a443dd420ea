import { promisify } from 'node:util';
import { operations, Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { parse as parseCookie } from 'cookie';
import express, { type Request, type Response } from 'express';
import { bind, type Call, type Environment, type Route } from '../../platform/call.js';
import type { AuthorizationStore, Authorization } from './authorizationStore.js';
import { answerAddress, readAuthorization, sourceOf } from './authorizing.js';
import { Issuer, TokenError, type TokenForm } from './issuer.js';
import { sendPage, type Shown } from './page.js';
import { OtherAccount, type OutsideWays } from './outside.js';
import type { Parts } from './parts.js';
import { callerOf, entryRules } from '../users/entry.js';
import type { UserRow } from '../users/store.js';

type IdentityCall = Pick<Call, 'request' | 'response' | 'headers' | 'holder'> & {
  environment: Environment | null;
  params: { app: string; environment: string };
};
const readForm = promisify(express.urlencoded({ extended: false, limit: '20kb' })) as (
  request: Request,
  response: Response,
) => Promise<void>;
/** A sign-in page is open so long. */
const OPEN_MS = 20 * 60_000;
/** RFC 6749 section 4.1.2: at most ten minutes. */
const CODE_MS = 60_000;
const COOKIE = 'orchard_sign_in';

export function identityRoutes(parts: Parts, store: AuthorizationStore, outside: OutsideWays): Route[] {
  const own = operations.identity;
  const issuer = new Issuer(parts);
  const page = new SignInPage(parts, store, outside);
  /** The path names the environment; what is recorded belongs to it. */
  const placeOf = async (call: IdentityCall): Promise<Environment> => {
    const environment = await parts.directory.environment(call.params.app, call.params.environment);
    call.environment = environment;
    return environment;
  };
  const asForm = async (call: IdentityCall): Promise<TokenForm> => {
    await readForm(call.request, call.response);
    const body = (call.request.body ?? {}) as Record<string, unknown>;
    // It holds passwords, codes and tokens: nothing that records calls may find it.
    call.request.body = undefined;
    return Object.fromEntries(Object.entries(body).filter(([, value]) => typeof value === 'string')) as TokenForm;
  };
  const json = (body: object) => ({ body: body as JsonObject, headers: { 'cache-control': 'no-store', pragma: 'no-cache' } });
  return [
    bind(own.metadata, async (call) => ({
      body: issuer.metadata(await placeOf(call)) as unknown as JsonObject,
      headers: { 'cache-control': 'max-age=300' },
    })),
    bind(own.keys, async (call) => ({
      body: (await parts.userTokens.signingKeys.published(await placeOf(call))) as unknown as JsonObject,
      headers: { 'cache-control': 'max-age=300' },
    })),
    bind(own.authorize, async (call) => page.open(await placeOf(call), call, call.query)),
    bind(own.signIn, async (call) => page.take(await placeOf(call), call, await asForm(call))),
    bind(own.wayThere, async (call) => page.there(await placeOf(call), call, call.params.way)),
    bind(own.wayBack, async (call) => page.back(await placeOf(call), call, call.params.way)),
    bind(own.token, async (call) => {
      const environment = await placeOf(call);
      try {
        return json(await issuer.token(environment, await asForm(call), callerOf(call)));
      } catch (error) {
        if (!(error instanceof TokenError)) throw error;
        return sendError(call, 400, error.code, error.message);
      }
    }),
    bind(own.revoke, async (call) => {
      const environment = await placeOf(call);
      await issuer.revoke(environment, (await asForm(call)).token ?? '');
      return json({});
    }),
    bind(own.introspect, async (call) => {
      const environment = await placeOf(call);
      const form = await asForm(call);
      if (!(await mayIntrospect(parts, environment, call.headers.authorization)))
        return sendError(call, 401, 'invalid_client', 'Send a server key with the scope users:read as the Basic password.');
      return json(await issuer.introspect(environment, form.token ?? ''));
    }),
    bind(own.userInfo, async (call) => {
      const environment = await placeOf(call);
      const token = /^Bearer\s+(\S+)$/i.exec(call.headers.authorization ?? '')?.[1];
      if (!token) throw new Problem('token-missing');
      return json(await issuer.userInfo(environment, token));
    }),
  ];
}

/** In the form of RFC 6749 section 5.2, which is not that of our own problems. */
function sendError({ response }: Pick<Call, 'response'>, status: 400 | 401, error: string, words: string): 'streaming' {
  response.status(status).setHeader('cache-control', 'no-store');
  if (status === 401) response.setHeader('www-authenticate', 'Basic realm="introspection"');
  response.json({ error, error_description: words });
  return 'streaming';
}

/** A backend proves itself with a server key of the environment. */
async function mayIntrospect(parts: Parts, environment: Environment, authorization: string | undefined): Promise<boolean> {
  const [, encoded] = /^Basic\s+(\S+)$/i.exec(authorization ?? '') ?? [];
  const key = Buffer.from(encoded ?? '', 'base64')
    .toString('utf8')
    .split(':')
    .slice(1)
    .join(':');
  if (!key) return false;
  const holder = await parts.directory.holderOf(decodeURIComponent(key)).catch((error: unknown) => {
    if (error instanceof Problem) return null;
    throw error;
  });
  return holder?.environment.id === environment.id && holder.key.kind === 'server' && holder.key.scopes.includes('users:read');
}

type Opened = { open: Authorization; request: string };

/** The page, from being opened to the way back into the app. */
class SignInPage {
  constructor(
    private readonly parts: Parts,
    private readonly store: AuthorizationStore,
    private readonly outside: OutsideWays,
  ) {}

  async open(environment: Environment, call: IdentityCall, query: Record<string, unknown>): Promise<'streaming'> {
    const read = await readAuthorization(environment, query);
    const issuer = this.parts.userTokens.issuerOf(environment);
    if (read.is === 'untrusted') throw new Problem('invalid-input', read.words);
    if (read.is === 'refused')
      return leadTo(call, answerAddress(read.redirectUri, issuer, read.state, { error: read.error, error_description: read.words }));
    const request = this.parts.random(24).toString('base64url');
    await this.store.add(environment, request, read.asked, new Date(this.parts.now() + OPEN_MS));
    // Whoever opened the page sends it, and nobody else in their name (RFC 9700 section 4.7).
    const path = new URL(issuer).pathname;
    const secure = issuer.startsWith('https:') ? '; Secure' : '';
    call.response.setHeader('set-cookie', `${COOKIE}=${request}; Path=${path}; HttpOnly; SameSite=Lax; Max-Age=${OPEN_MS / 1000}${secure}`);
    return this.#show(
      environment,
      call,
      { request, view: 'password', languages: read.languages },
      read.asked.redirectUri,
      200,
      read.asked.client,
    );
  }

  async take(environment: Environment, call: IdentityCall, form: TokenForm): Promise<'streaming'> {
    const { request = '', step = '' } = form;
    const found = await this.#opened(environment, call);
    const open = found && found.request === request ? found.open : null;
    if (!open) return this.#expired(environment, call);
    const email = (form.email ?? '').trim().toLowerCase();
    const show = (changes: Partial<Shown> & Pick<Shown, 'view'>, status = 200) =>
      this.#show(environment, call, { request, email, languages: [], ...changes }, open.redirectUri, status, open.client);
    try {
      switch (step) {
        case 'password':
          return await this.#grant(environment, call, open, await this.#byPassword(environment, call, open, email, form.password ?? ''));
        case 'code':
          return await this.#grant(
            environment,
            call,
            open,
            await this.parts.waysIn.userByCode(environment, { email, code: form.code ?? '' }),
          );
        case 'ask-code':
          return await show({ view: 'ask-code' });
        case 'send-code':
          await this.parts.waysIn.ask(environment, { email }, callerOf(call).locale);
          return await show({ view: 'code' });
        case 'forgot':
          return await show({ view: 'forgot' });
        case 'send-link':
          await this.parts.accountFlows.forgotPassword(environment, email, callerOf(call).locale);
          return await show({ view: 'link-sent' });
        default:
          return await show({ view: 'password' });
      }
    } catch (error) {
      const trouble = error instanceof Problem ? TROUBLES[error.problem] : undefined;
      if (!trouble) throw error;
      return show({ view: VIEW_AFTER[step] ?? 'password', trouble }, 400);
    }
  }

  /** From the page to a provider outside. */
  async there(environment: Environment, call: IdentityCall, name: string): Promise<'streaming'> {
    const found = await this.#opened(environment, call);
    if (!found) return this.#expired(environment, call);
    const way = (await this.outside.of(environment, found.open.client)).find(([one]) => one === name)?.[1];
    try {
      if (!way) throw new Problem('not-found', `Client ${found.open.client} may not use the way ${name}.`);
      return leadTo(call, await this.outside.begin(environment, name, way, found.request));
    } catch (error) {
      return this.#unavailable(environment, call, found, name, error as Error);
    }
  }

  /** From a provider outside to the app. */
  async back(environment: Environment, call: IdentityCall, name: string): Promise<'streaming'> {
    const found = await this.#opened(environment, call);
    if (!found) return this.#expired(environment, call);
    try {
      const query = new URL(call.request.originalUrl, 'http://service').searchParams;
      return await this.#grant(environment, call, found.open, await this.outside.end(environment, name, query, found.request));
    } catch (error) {
      return this.#unavailable(environment, call, found, name, error as Error);
    }
  }

  async #opened(environment: Environment, call: IdentityCall): Promise<Opened | null> {
    const request = parseCookie(call.headers.cookie ?? '')[COOKIE] ?? '';
    const open = request ? await this.store.open(environment, request, new Date(this.parts.now())) : null;
    return open && { open, request };
  }

  #expired(environment: Environment, call: IdentityCall): Promise<'streaming'> {
    return this.#show(environment, call, { request: '', view: 'ended', trouble: 'expired', languages: [] }, null, 400);
  }

  /** People are told that it does not work; the team, in the log, why. */
  #unavailable(environment: Environment, call: IdentityCall, { open, request }: Opened, name: string, error: Error): Promise<'streaming'> {
    const trouble = error instanceof OtherAccount ? ('otherAccount' as const) : ('unavailable' as const);
    const text = error.message || 'The address belongs to an account that has not confirmed it.';
    this.parts.ports.logEntry(environment, { level: 'warning', source: `sign-in way ${name}`, text });
    return this.#show(environment, call, { request, view: 'password', trouble, languages: [] }, open.redirectUri, 400, open.client);
  }

  #byPassword(environment: Environment, call: IdentityCall, { client }: Authorization, email: string, password: string): Promise<UserRow> {
    return this.parts.userSessions.userByPassword(environment, { ...callerOf(call), client }, email, password);
  }

  async #grant(
    environment: Environment,
    call: IdentityCall,
    { hash, redirectUri, state }: Authorization,
    user: UserRow,
  ): Promise<'streaming'> {
    const code = this.parts.random(24).toString('base64url');
    const now = this.parts.now();
    await this.store.grant(environment, hash, code, user.id, { now: new Date(now), expires: new Date(now + CODE_MS) });
    return leadTo(call, answerAddress(redirectUri, this.parts.userTokens.issuerOf(environment), state, { code }));
  }

  async #show(
    environment: Environment,
    call: IdentityCall,
    shown: Pick<Shown, 'request' | 'view' | 'languages'> & Partial<Shown>,
    redirectUri: string | null,
    status = 200,
    client = '',
  ): Promise<'streaming'> {
    const { codeByMail } = await entryRules.read(environment);
    const action = `${new URL(this.parts.userTokens.issuerOf(environment)).pathname}/authorize`;
    const accepted = String(call.headers['accept-language'] ?? '')
      .split(',')
      .map((one) => one.split(';')[0]?.trim() ?? '');
    const languages = [...shown.languages, ...accepted];
    const ways = client === '' ? [] : await this.outside.of(environment, client);
    const base = new URL(this.parts.userTokens.issuerOf(environment)).pathname;
    const links = ways.map(([name, { title }]) => ({ href: `${base}/ways/${name}`, title }));
    sendPage(
      call.response,
      status,
      { app: environment.app, action, mayCode: codeByMail, ways: links, ...shown, languages },
      redirectUri && sourceOf(redirectUri),
    );
    return 'streaming';
  }
}

/** The words of the page for what the calls refuse: none says which part was right. */
const TROUBLES: Partial<Record<string, Shown['trouble']>> = {
  'sign-in-refused': 'wrong',
  'code-refused': 'wrongCode',
  'rate-exceeded': 'wait',
  'confirmation-missing': 'notConfirmed',
  'access-refused': 'unavailable',
  'gateway-missing': 'unavailable',
};
const VIEW_AFTER: Record<string, Shown['view']> = { code: 'code', 'send-code': 'ask-code', 'send-link': 'forgot' };

function leadTo({ response }: Pick<Call, 'response'>, address: string): 'streaming' {
  response.status(303).setHeader('location', address);
  response.setHeader('cache-control', 'no-store');
  response.setHeader('referrer-policy', 'no-referrer');
  response.end();
  return 'streaming';
}
