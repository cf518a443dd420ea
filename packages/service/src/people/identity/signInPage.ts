/** The sign-in page, from being opened to the way back into the app. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { readMailAddress } from '@orchard/core/words';
import { parse as parseCookie } from 'cookie';
import type { Call, Environment } from '../../platform/call.js';
import { leadTo } from '../../platform/http/leading.js';
import { OtherAccount } from '../providers/meeting.js';
import type { OutsidePerson } from '../providers/person.js';
import { isVisited, type SignInWay } from '../providers/ways.js';
import { callerOf, entryRules } from '../users/entry.js';
import { signUp } from '../users/signUp.js';
import type { UserRow } from '../users/store.js';
import { ADDING, type Authorization, type AuthorizationStore } from './authorizationStore.js';
import { answerAddress, isSameAddress, readAuthorization, sourceOf } from './authorizing.js';
import type { TokenForm } from './issuer.js';
import { sendForm, sendPage, type Shown } from './page.js';
import { pageLook, readPicture } from './pageLook.js';
import type { Parts } from './parts.js';

export type IdentityCall = Pick<Call, 'request' | 'response' | 'headers' | 'holder'> & {
  environment: Environment | null;
  params: { app: string; environment: string };
};

/** A sign-in page is open so long. */
const OPEN_MS = 20 * 60_000;
/** RFC 6749 section 4.1.2: at most ten minutes. */
const CODE_MS = 60_000;
const COOKIE = 'orchard_sign_in';

type Opened = { open: Authorization; request: string };
type Changes = Pick<Shown, 'view'> & Partial<Shown>;

export class SignInPage {
  constructor(
    private readonly parts: Parts,
    private readonly store: AuthorizationStore,
  ) {}

  async open(environment: Environment, call: IdentityCall, query: Record<string, unknown>): Promise<'streaming'> {
    const elsewhere = this.#elsewhere(environment, call);
    if (elsewhere) return leadTo(call, elsewhere);
    const read = await readAuthorization(environment, query);
    const issuer = this.parts.userTokens.issuerOf(environment);
    if (read.is === 'untrusted') throw new Problem('invalid-input', read.words);
    if (read.is === 'refused')
      return leadTo(call, answerAddress(read.redirectUri, issuer, read.state, { error: read.error, error_description: read.words }));
    const request = this.parts.random(24).toString('base64url');
    const expiresAt = new Date(this.parts.now() + OPEN_MS);
    await this.store.add(environment, request, read.asked, expiresAt);
    this.#setCookie(environment, call, request);
    const { languages, asked } = read;
    return this.#show(environment, call, { request, open: asked }, { view: 'password', languages });
  }

  /** The same page at the environment's own host; null when the call is there already. */
  #elsewhere(environment: Environment, { headers, request }: IdentityCall): string | null {
    const origin = this.parts.signInHosts.originOf(environment);
    if (origin === null || headers.host === new URL(origin).host) return null;
    return `${origin}${request.originalUrl}`;
  }

  /** Whoever opened the page sends it, and nobody else in their name (RFC 9700 section 4.7). */
  #setCookie(environment: Environment, { response }: IdentityCall, request: string): void {
    const page = this.parts.userTokens.pageOf(environment);
    const secure = page.startsWith('https:') ? '; Secure' : '';
    const path = new URL(page).pathname;
    response.setHeader('set-cookie', `${COOKIE}=${request}; Path=${path}; HttpOnly; SameSite=Lax; Max-Age=${OPEN_MS / 1000}${secure}`);
  }

  async take(environment: Environment, call: IdentityCall, form: TokenForm): Promise<'streaming'> {
    const { request = '', step = '' } = form;
    const found = await this.#opened(environment, call);
    if (!found || found.request !== request || found.open.scope === ADDING) return this.#expired(environment, call);
    const entered = form.email ?? '';
    const email = readMailAddress(entered) ?? entered.trim();
    const { name = '', ticket = '' } = form;
    const kept = { email, name, ticket };
    try {
      return await this.#step(environment, call, found, step, form, email);
    } catch (error) {
      const trouble = error instanceof Problem ? troubleOf(step, error) : undefined;
      if (!trouble) throw error;
      if (trouble === 'confirmSent') return this.#show(environment, call, found, { view: 'confirm-sent', ...kept });
      const way = step === 'directory' ? await this.#wayOf(environment, found, form.way ?? '') : null;
      const view = VIEW_AFTER[step] ?? 'password';
      return this.#show(environment, call, found, { view, trouble, ...kept, ...(way ? { way, name: form.user ?? '' } : {}) }, 400);
    }
  }

  async #step(
    environment: Environment,
    call: IdentityCall,
    found: Opened,
    step: string,
    form: TokenForm,
    email: string,
  ): Promise<'streaming'> {
    const { waysIn, accountFlows, userSessions, userFactors } = this.parts;
    const caller = { ...callerOf(call), client: found.open.client };
    const show = (changes: Changes) => this.#show(environment, call, found, { email, ...changes });
    const grant = (user: UserRow) => this.#grant(environment, call, found, user);
    switch (step) {
      case 'password':
        return grant(await userSessions.userByPassword(environment, caller, email, form.password ?? ''));
      case 'code':
        return grant(await waysIn.userByCode(environment, { email, code: form.code ?? '' }));
      case 'ask-code':
        return show({ view: 'ask-code' });
      case 'send-code':
        await waysIn.ask(environment, { email }, caller.locale);
        return show({ view: 'code' });
      case 'forgot':
        return show({ view: 'forgot' });
      case 'send-link':
        await accountFlows.forgotPassword(environment, email, caller.locale);
        return show({ view: 'link-sent' });
      case 'ask-sign-up':
        return show({ view: 'sign-up' });
      case 'sign-up': {
        const { password = '', name, terms } = form;
        const wanted = { email, password, name: name?.trim() || undefined, terms };
        return grant(await signUp(this.parts, userSessions, environment, caller, wanted));
      }
      case 'second-factor':
        return this.#lead(
          environment,
          call,
          found.open,
          await userFactors.finish(environment, caller.client, form.ticket ?? '', form.code ?? '', caller.address),
        );
      case 'ask-passkey':
        return show({ view: 'passkey', passkey: await (await userFactors.of(environment)).passkeys.challenge() });
      case 'passkey':
        return this.#lead(environment, call, found.open, await userFactors.byPasskey(environment, readPasskey(form.passkey)));
      case 'directory': {
        const { way = '', user = '', password = '' } = form;
        const { client, address } = caller;
        const outside = await this.parts.outsideWays.atDirectory(environment, client, way, { user, password, address });
        return grant(await this.parts.outsideWays.accountOf(environment, way, outside.way, outside.person));
      }
      default:
        return show({ view: 'password' });
    }
  }

  /** From the page to a provider outside; of a directory, to the view that asks for its password. */
  async there(environment: Environment, call: IdentityCall, name: string): Promise<'streaming'> {
    const found = await this.#opened(environment, call);
    if (!found) return this.#expired(environment, call);
    try {
      const way = await this.#demandWay(environment, found, name);
      const shown = { name, title: way.title };
      if (!isVisited(way)) return await this.#show(environment, call, found, { view: 'directory', way: shown });
      const { address, form } = await this.parts.outsideWays.begin(environment, name, way, found.request);
      if (!form) return leadTo(call, address);
      sendForm(call.response, await this.#shown(environment, call, found, { view: 'password', way: shown }), { address, form });
      return 'streaming';
    } catch (error) {
      return this.#unavailable(environment, call, found, name, error as Error);
    }
  }

  async #demandWay(environment: Environment, { open }: Opened, name: string): Promise<SignInWay> {
    const way = (await this.parts.outsideWays.of(environment, open.client)).find(([one]) => one === name)?.[1];
    if (!way) throw new Problem('not-found', `Client ${open.client} may not use the way ${name}.`);
    return way;
  }

  async #wayOf(environment: Environment, found: Opened, name: string): Promise<{ name: string; title: string } | null> {
    const way = await this.#demandWay(environment, found, name).catch(() => null);
    return way && { name, title: way.title };
  }

  /** What a provider posts: it is checked, and taken up by the browser with its cookie. */
  async posted(environment: Environment, call: IdentityCall, name: string, form: TokenForm): Promise<'streaming'> {
    try {
      const answer = { response: form.SAMLResponse ?? '', state: form.RelayState ?? '' };
      return leadTo(call, await this.parts.outsideWays.receive(environment, name, answer));
    } catch (error) {
      this.#note(environment, name, error as Error);
      // The browser sent no cookie: which request of the page it was is known after one more step.
      return leadTo(call, `${this.parts.outsideWays.redirectAddress(environment, name)}?error=refused`);
    }
  }

  /** From a provider outside to the app. */
  async back(environment: Environment, call: IdentityCall, name: string): Promise<'streaming'> {
    const found = await this.#opened(environment, call);
    if (!found) return this.#expired(environment, call);
    const { outsideWays } = this.parts;
    try {
      const query = new URL(call.request.originalUrl, 'http://service').searchParams;
      const way = await this.#demandWay(environment, found, name);
      const person = await outsideWays.end(environment, name, query, found.request);
      if (found.open.scope === ADDING) return await this.#added(environment, call, found, { name, way, person });
      return await this.#grant(environment, call, found, await outsideWays.accountOf(environment, name, way, person));
    } catch (error) {
      return this.#unavailable(environment, call, found, name, error as Error);
    }
  }

  /** The address at which somebody who is signed in adds an account at a provider. @throws {Problem} not-found, invalid-input */
  async adding(environment: Environment, wanted: { client: string; userId: string; way: string; redirectUri: string }): Promise<string> {
    const { client, userId, way, redirectUri } = wanted;
    const { redirects } = await entryRules.read(environment);
    const allowed = Object.hasOwn(redirects, client) ? (redirects[client] ?? []) : [];
    if (!allowed.some((address) => isSameAddress(address, redirectUri)))
      throw new Problem(
        'invalid-input',
        `The address ${redirectUri} is not among those of client ${client}: ${allowed.join(', ') || 'it has none'}.`,
      );
    const asked = { client, redirectUri, challenge: '', scope: ADDING, state: null, nonce: null };
    const request = this.parts.random(24).toString('base64url');
    const found = await this.#demandWay(environment, { open: { client } as Authorization, request }, way);
    if (!isVisited(found)) throw new Problem('not-found', `The way ${way} does not begin at a provider.`);
    await this.store.add(environment, request, asked, new Date(this.parts.now() + OPEN_MS), userId);
    return `${this.parts.userTokens.pageOf(environment)}/page/add?${new URLSearchParams({ request, way })}`;
  }

  /** Whose account it is that something is added to is shown first: the address could come from somebody else. */
  async askAdding(environment: Environment, call: IdentityCall, query: Record<string, unknown>): Promise<'streaming'> {
    const request = String(query.request ?? '');
    const name = String(query.way ?? '');
    const open = await this.store.open(environment, request, new Date(this.parts.now()));
    const user = open?.scope === ADDING && open.userId ? await this.parts.userStore.find(environment, open.userId) : null;
    if (!open || !user) return this.#expired(environment, call);
    this.#setCookie(environment, call, request);
    const found = { open, request };
    const way = await this.#wayOf(environment, found, name);
    if (!way) return this.#expired(environment, call);
    const shown = await this.#shown(environment, call, found, { view: 'add', way, email: user.email ?? user.name ?? user.id });
    const ways = shown.ways.filter(({ href }) => href.endsWith(`/ways/${name}`));
    sendPage(call.response, 200, { ...shown, ways }, null);
    return 'streaming';
  }

  async #added(
    environment: Environment,
    call: IdentityCall,
    { open }: Opened,
    { name, way, person }: { name: string; way: SignInWay; person: OutsidePerson },
  ) {
    const { userStore, outsideWays, userTokens } = this.parts;
    const user = await userStore.find(environment, open.userId ?? '');
    const code = this.parts.random(24).toString('base64url');
    const now = this.parts.now();
    // It is used up, whatever comes of it.
    const isFirst = user && (await this.store.grant(environment, open.hash, code, user.id, { now: new Date(now), expires: new Date(now) }));
    if (!isFirst) return this.#expired(environment, call);
    const lead = (answer: Record<string, string>) =>
      leadTo(call, answerAddress(open.redirectUri, userTokens.issuerOf(environment), open.state, answer));
    try {
      await outsideWays.meeting.add(environment, name, way, person, user);
      return lead({ added: name });
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      return lead({ error: 'access_denied', error_description: error.detail });
    }
  }

  async #opened(environment: Environment, call: IdentityCall): Promise<Opened | null> {
    const request = parseCookie(call.headers.cookie ?? '')[COOKIE] ?? '';
    const open = request ? await this.store.open(environment, request, new Date(this.parts.now())) : null;
    return open && { open, request };
  }

  #expired(environment: Environment, call: IdentityCall): Promise<'streaming'> {
    return this.#show(environment, call, null, { view: 'ended', trouble: 'expired' }, 400);
  }

  /** People are told that it does not work; the team, in the log, why. */
  #unavailable(environment: Environment, call: IdentityCall, found: Opened, name: string, error: Error): Promise<'streaming'> {
    this.#note(environment, name, error);
    const trouble = error instanceof OtherAccount ? ('otherAccount' as const) : ('unavailable' as const);
    if (found.open.scope === ADDING) return this.#show(environment, call, found, { view: 'ended', trouble: 'notAdded' }, 400);
    return this.#show(environment, call, found, { view: 'password', trouble }, 400);
  }

  #note(environment: Environment, name: string, error: Error): void {
    const text = error.message || 'The address belongs to an account that has not confirmed it.';
    this.parts.ports.logEntry(environment, { level: 'warning', source: `sign-in way ${name}`, text });
  }

  /** Back to the app with a code, after the second factor of those who have one. */
  async #grant(environment: Environment, call: IdentityCall, found: Opened, user: UserRow): Promise<'streaming'> {
    try {
      await this.parts.userFactors.demand(environment, user.id, found.open.client);
    } catch (error) {
      if (!(error instanceof Problem) || error.problem !== 'second-factor-needed') throw error;
      return this.#show(environment, call, found, { view: 'second-factor', ticket: error.extras.ticket ?? '' });
    }
    return this.#lead(environment, call, found.open, user);
  }

  async #lead(
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
    found: { open: Pick<Authorization, 'client' | 'redirectUri'>; request: string } | null,
    changes: Changes,
    status = 200,
  ): Promise<'streaming'> {
    sendPage(call.response, status, await this.#shown(environment, call, found, changes), found && sourceOf(found.open.redirectUri));
    return 'streaming';
  }

  async #shown(
    environment: Environment,
    call: IdentityCall,
    found: { open: Pick<Authorization, 'client'>; request: string } | null,
    changes: Changes,
  ): Promise<Shown> {
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

/** The words of the page for what the calls refuse: none says which part was right. */
const TROUBLES: Partial<Record<string, Shown['trouble']>> = {
  'sign-in-refused': 'wrong',
  'code-refused': 'wrongCode',
  'rate-exceeded': 'wait',
  'confirmation-missing': 'notConfirmed',
  'access-refused': 'unavailable',
  'gateway-missing': 'unavailable',
  'wrong-state': 'unavailable',
  'not-found': 'unavailable',
  'app-outdated': 'unavailable',
  busy: 'unavailable',
  'link-refused': 'expired',
};
/** Where a step has words of its own. */
const STEP_TROUBLES: Record<string, Partial<Record<string, Shown['trouble']>>> = {
  'second-factor': { 'second-factor-refused': 'wrongFactor' },
  passkey: { 'second-factor-refused': 'passkeyRefused', 'sign-in-refused': 'passkeyRefused', 'not-found': 'passkeyRefused' },
  directory: { 'sign-in-refused': 'wrongUser' },
  'sign-up': {
    'confirmation-missing': 'confirmSent',
    'already-exists': 'signUpRefused',
    'access-refused': 'signUpRefused',
  },
};

function troubleOf(step: string, { problem, extras }: Problem): Shown['trouble'] {
  if (step === 'sign-up' && problem === 'invalid-input')
    return extras.fields?.some(({ path }) => path === 'body.password') ? 'weakPassword' : 'signUpRefused';
  return STEP_TROUBLES[step]?.[problem] ?? TROUBLES[problem];
}

const VIEW_AFTER: Record<string, Shown['view']> = {
  code: 'code',
  'send-code': 'ask-code',
  'send-link': 'forgot',
  'sign-up': 'sign-up',
  'second-factor': 'second-factor',
  directory: 'directory',
};

function readPasskey(text: string | undefined): JsonObject {
  try {
    return JSON.parse(text ?? '') as JsonObject;
  } catch {
    return {};
  }
}
