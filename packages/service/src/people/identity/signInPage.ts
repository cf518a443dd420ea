/** The sign-in page, from being opened to the way back into the app. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { readMailAddress } from '@orchard/core/words';
import type { Environment } from '../../platform/call.js';
import { leadTo } from '../../platform/http/leading.js';
import { OtherAccount } from '../providers/meeting.js';
import { callerOf } from '../users/entry.js';
import { signUp } from '../users/signUp.js';
import type { UserRow } from '../users/store.js';
import { type Authorization, isErrand } from './authorizationStore.js';
import { answerAddress, readAuthorization } from './authorizing.js';
import type { TokenForm } from './issuer.js';
import type { Shown } from './page.js';
import type { Changes, IdentityCall, Opened, PageFrame } from './pageFrame.js';
import type { Parts } from './parts.js';
import type { FromOutside, Purpose } from './visits.js';

/** RFC 6749 section 4.1.2: at most ten minutes. */
const CODE_MS = 60_000;

export class SignInPage implements Purpose {
  readonly parts: Parts;

  constructor(private readonly frame: PageFrame) {
    this.parts = frame.parts;
  }

  async open(environment: Environment, call: IdentityCall, query: Record<string, unknown>): Promise<'streaming'> {
    const elsewhere = this.#elsewhere(environment, call);
    if (elsewhere) return leadTo(call, elsewhere);
    const read = await readAuthorization(environment, query);
    const issuer = this.parts.userTokens.issuerOf(environment);
    if (read.is === 'untrusted') throw new Problem('invalid-input', read.words);
    if (read.is === 'refused')
      return leadTo(call, answerAddress(read.redirectUri, issuer, read.state, { error: read.error, error_description: read.words }));
    const { request, expiresAt } = this.frame.newRequest();
    await this.frame.store.add(environment, request, read.asked, expiresAt);
    this.frame.setCookie(environment, call, request);
    const { languages, asked } = read;
    return this.frame.show(environment, call, { request, open: asked }, { view: 'password', languages });
  }

  /** The same page at the environment's own host; null when the call is there already. */
  #elsewhere(environment: Environment, { headers, request }: IdentityCall): string | null {
    const origin = this.parts.signInHosts.originOf(environment);
    if (origin === null || headers.host === new URL(origin).host) return null;
    return `${origin}${request.originalUrl}`;
  }

  async take(environment: Environment, call: IdentityCall, form: TokenForm): Promise<'streaming'> {
    const { request = '', step = '' } = form;
    const found = await this.frame.opened(environment, call);
    if (!found || found.request !== request || isErrand(found.open)) return this.frame.expired(environment, call);
    const entered = form.email ?? '';
    const email = readMailAddress(entered) ?? entered.trim();
    const { name = '', ticket = '' } = form;
    const kept = { email, name, ticket };
    try {
      return await this.#step(environment, call, found, step, form, email);
    } catch (error) {
      const trouble = error instanceof Problem ? troubleOf(step, error) : undefined;
      if (!trouble) throw error;
      if (trouble === 'confirmSent') return this.frame.show(environment, call, found, { view: 'confirm-sent', ...kept });
      const way = step === 'directory' ? await this.frame.wayShown(environment, found, form.way ?? '') : null;
      const view = VIEW_AFTER[step] ?? 'password';
      return this.frame.show(environment, call, found, { view, trouble, ...kept, ...(way ? { way, name: form.user ?? '' } : {}) }, 400);
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
    const show = (changes: Changes) => this.frame.show(environment, call, found, { email, ...changes });
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

  demandWay(environment: Environment, { open }: Opened, name: string) {
    return this.frame.demandWay(environment, open.client, name);
  }

  /** Whoever comes from a provider has the account that it leads to. */
  async end(environment: Environment, call: IdentityCall, found: Opened, { name, way, person }: FromOutside): Promise<'streaming'> {
    return this.#grant(environment, call, found, await this.parts.outsideWays.accountOf(environment, name, way, person));
  }

  async failed(environment: Environment, call: IdentityCall, found: Opened, name: string, error: Error): Promise<'streaming'> {
    this.frame.note(environment, name, error);
    const trouble = error instanceof OtherAccount ? 'otherAccount' : 'unavailable';
    return this.frame.show(environment, call, found, { view: 'password', trouble }, 400);
  }

  /** Back to the app with a code, after the second factor of those who have one. */
  async #grant(environment: Environment, call: IdentityCall, found: Opened, user: UserRow): Promise<'streaming'> {
    try {
      await this.parts.userFactors.demand(environment, user.id, found.open.client);
    } catch (error) {
      if (!(error instanceof Problem) || error.problem !== 'second-factor-needed') throw error;
      return this.frame.show(environment, call, found, { view: 'second-factor', ticket: error.extras.ticket ?? '' });
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
    await this.frame.store.grant(environment, hash, code, user.id, { now: new Date(now), expires: new Date(now + CODE_MS) });
    return leadTo(call, answerAddress(redirectUri, this.parts.userTokens.issuerOf(environment), state, { code }));
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
