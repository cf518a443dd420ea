/** What the pages of an environment have in common: the request that a browser holds, how a page looks, and what goes wrong. */
import { parse as parseCookie } from 'cookie';
import type { Call, Environment } from '../../platform/call.js';
import { Problem } from '@orchard/contract';
import type { SignInWay } from '../providers/ways.js';
import { entryRules } from '../users/entry.js';
import type { Authorization, AuthorizationStore } from './authorizationStore.js';
import { sourceOf } from './authorizing.js';
import { sendPage, type Shown } from './page.js';
import { pageLook, readPicture } from './pageLook.js';
import type { Parts } from './parts.js';

export type IdentityCall = Pick<Call, 'request' | 'response' | 'headers' | 'holder'> & {
  environment: Environment | null;
  params: { app: string; environment: string };
};

/** A request of a page stays open so long. */
export const OPEN_MS = 20 * 60_000;
const COOKIE = 'orchard_sign_in';

export type Opened = { open: Authorization; request: string };
/** A request before it is stored has these already. */
type Begun = { open: Pick<Authorization, 'client' | 'redirectUri'>; request: string };
export type Changes = Pick<Shown, 'view'> & Partial<Shown>;

/** The parameters with which a browser came. */
export const queryOf = ({ request }: IdentityCall): URLSearchParams => new URL(request.originalUrl, 'http://service').searchParams;

export class PageFrame {
  constructor(
    readonly parts: Parts,
    readonly store: AuthorizationStore,
  ) {}

  /** A request that nobody can guess, and when it ends. */
  newRequest(): { request: string; expiresAt: Date } {
    return { request: this.parts.random(24).toString('base64url'), expiresAt: new Date(this.parts.now() + OPEN_MS) };
  }

  /** Whoever opened the page sends it, and nobody else in their name (RFC 9700 section 4.7). */
  setCookie(environment: Environment, { response }: IdentityCall, request: string): void {
    const page = this.parts.userTokens.pageOf(environment);
    const secure = page.startsWith('https:') ? '; Secure' : '';
    const path = new URL(page).pathname;
    response.setHeader('set-cookie', `${COOKIE}=${request}; Path=${path}; HttpOnly; SameSite=Lax; Max-Age=${OPEN_MS / 1000}${secure}`);
  }

  /** The request whose cookie the browser sends. */
  opened(environment: Environment, call: IdentityCall): Promise<Opened | null> {
    return this.named(environment, parseCookie(call.headers.cookie ?? '')[COOKIE] ?? '');
  }

  /** An open request by its name; null for none. */
  async named(environment: Environment, request: string): Promise<Opened | null> {
    const open = request ? await this.store.open(environment, request, new Date(this.parts.now())) : null;
    return open && { open, request };
  }

  /** @throws {Problem} not-found */
  async demandWay(environment: Environment, client: string, name: string): Promise<SignInWay> {
    const way = (await this.parts.outsideWays.of(environment, client)).find(([one]) => one === name)?.[1];
    if (!way) throw new Problem('not-found', `Client ${client} may not use the way ${name}.`);
    return way;
  }

  /** What a page says of a way; null for one that the client may not use. */
  async wayShown(environment: Environment, { open }: Opened, name: string): Promise<{ name: string; title: string } | null> {
    const way = await this.demandWay(environment, open.client, name).catch(() => null);
    return way && { name, title: way.title };
  }

  expired(environment: Environment, call: IdentityCall): Promise<'streaming'> {
    return this.show(environment, call, null, { view: 'ended', trouble: 'expired' }, 400);
  }

  /** People are told that it does not work; the team, in the log, why. */
  note(environment: Environment, name: string, error: Error): void {
    const text = error.message || 'The address belongs to an account that has not confirmed it.';
    this.parts.ports.logEntry(environment, { level: 'warning', source: `sign-in way ${name}`, text });
  }

  async show(environment: Environment, call: IdentityCall, found: Begun | null, changes: Changes, status = 200): Promise<'streaming'> {
    sendPage(call.response, status, await this.shown(environment, call, found, changes), found && sourceOf(found.open.redirectUri));
    return 'streaming';
  }

  async shown(environment: Environment, call: IdentityCall, found: Begun | null, changes: Changes): Promise<Shown> {
    const rules = await entryRules.read(environment);
    const look = await pageLook.read(environment);
    const base = new URL(this.parts.userTokens.pageOf(environment)).pathname;
    const accepted = String(call.headers['accept-language'] ?? '')
      .split(',')
      .map((one) => one.split(';')[0]?.trim() ?? '');
    const ways = found ? await this.parts.outsideWays.of(environment, found.open.client) : [];
    const { passkeys } = await this.parts.userFactors.of(environment);
    return {
      app: look.name ?? environment.app,
      colour: look.colour,
      picture: readPicture(look) && `${base}/page/picture`,
      action: `${base}/authorize`,
      request: found?.request ?? '',
      may: { code: rules.codeByMail, signUp: rules.signUp === 'open' || rules.signUp === 'domains', passkey: passkeys.missing === null },
      terms: rules.terms,
      ways: ways.map(([name, { title }]) => ({ href: `${base}/ways/${name}`, title })),
      ...changes,
      languages: [...(changes.languages ?? []), ...accepted],
    };
  }
}
