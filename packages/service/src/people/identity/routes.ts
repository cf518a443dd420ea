import { operations, Problem, type SignInPageDocument } from '@orchard/contract';
import { definedIn, type JsonObject } from '@orchard/core';
import { bind, type Call, type Environment, environmentOf, type Route } from '../../platform/call.js';
import { readForm } from '../../platform/http/forms.js';
import { namedWay } from '../providers/ways.js';
import { callerOf, entryRules } from '../users/entry.js';
import { Issuer, TokenError } from './issuer.js';
import { changeLook, pageLook, readPicture } from './pageLook.js';
import type { Parts } from './parts.js';
import type { Adding } from './adding.js';
import type { IdentityCall } from './pageFrame.js';
import type { SignInPage } from './signInPage.js';
import type { Trying } from './trying.js';
import type { Visits } from './visits.js';

export type Pages = { signIn: SignInPage; adding: Adding; trying: Trying; visits: Visits };

export function identityRoutes(parts: Parts, { signIn, adding, trying, visits }: Pages): Route[] {
  const own = operations.identity;
  const issuer = new Issuer(parts);
  /** The path names the environment; what is recorded belongs to it. */
  const placeOf = async (call: IdentityCall): Promise<Environment> => {
    const environment = await parts.directory.here(call.params.app, call.params.environment);
    call.environment = environment;
    return environment;
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
    bind(own.authorize, async (call) => signIn.open(await placeOf(call), call, call.query)),
    bind(own.signIn, async (call) => signIn.take(await placeOf(call), call, await readForm(call))),
    bind(own.wayThere, async (call) => visits.there(await placeOf(call), call, call.params.way)),
    bind(own.wayPosted, async (call) => visits.posted(await placeOf(call), call, call.params.way, await readForm(call, 'large'))),
    bind(own.wayMetadata, async (call) => {
      const environment = await placeOf(call);
      const { way: name } = call.params;
      const way = await namedWay(environment, name);
      if (way.kind !== 'saml') throw new Problem('not-found', `The way ${name} is not by SAML.`);
      const { saml } = parts.outsideWays;
      const xml = saml.metadata(environment, name, way, parts.outsideWays.samlGround(environment, name));
      return send(call, 'application/samlmetadata+xml', Buffer.from(xml));
    }),
    bind(own.addAccount, async (call) => adding.ask(await placeOf(call), call, call.query)),
    bind(own.tryWay, async (call) => trying.ask(await placeOf(call), call, call.query)),
    bind(operations.signInWays.tryOut, async (call) => ({ body: await trying.begin(environmentOf(call), call.params.way) })),
    bind(own.picture, async (call) => {
      const picture = readPicture(await pageLook.read(await placeOf(call)));
      if (!picture) throw new Problem('not-found', 'The page has no picture.');
      return send(call, picture.type, picture.bytes);
    }),
    bind(own.relatedOrigins, async (call) => {
      const { passkeyOrigins } = await entryRules.read(await placeOf(call));
      return {
        body: { origins: passkeyOrigins.filter((origin) => origin.startsWith('http')) },
        headers: { 'cache-control': 'max-age=300' },
      };
    }),
    bind(own.page, async (call) => ({ body: await presentPage(parts, environmentOf(call)) })),
    bind(
      own.changePage,
      async (call) => {
        const environment = environmentOf(call);
        await changeLook(environment, definedIn(call.body), new Date(parts.now()));
        return { body: await presentPage(parts, environment) };
      },
      { subject: () => 'sign-in page', read: (call) => presentPage(parts, environmentOf(call)) },
    ),
    bind(own.wayBack, async (call) => visits.back(await placeOf(call), call, call.params.way)),
    bind(own.token, async (call) => {
      const environment = await placeOf(call);
      try {
        return json(await issuer.token(environment, await readForm(call), callerOf(call)));
      } catch (error) {
        if (!(error instanceof TokenError)) throw error;
        return sendError(call, 400, error.code, error.message);
      }
    }),
    bind(own.revoke, async (call) => {
      const environment = await placeOf(call);
      await issuer.revoke(environment, (await readForm(call)).token ?? '');
      return json({});
    }),
    bind(own.introspect, async (call) => {
      const environment = await placeOf(call);
      const form = await readForm(call);
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

async function presentPage({ userTokens }: Parts, environment: Environment): Promise<SignInPageDocument> {
  const { picture, ...look } = await pageLook.read(environment);
  return { ...look, hasPicture: picture !== null, address: userTokens.pageOf(environment) };
}

function send({ response }: Pick<Call, 'response'>, type: string, bytes: Buffer): 'streaming' {
  response.status(200).setHeader('content-type', type);
  response.setHeader('cache-control', 'max-age=300');
  response.setHeader('x-content-type-options', 'nosniff');
  response.end(bytes);
  return 'streaming';
}
