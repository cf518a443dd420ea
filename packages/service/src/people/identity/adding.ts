/** Adding an account at a provider to the account of somebody who is signed in. */
import { Problem } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import { leadTo } from '../../platform/http/leading.js';
import { isVisited } from '../providers/ways.js';
import { entryRules } from '../users/entry.js';
import { ADDING } from './authorizationStore.js';
import { answerAddress, isSameAddress } from './authorizing.js';
import { sendPage } from './page.js';
import type { IdentityCall, Opened, PageFrame } from './pageFrame.js';
import type { FromOutside, Purpose } from './visits.js';

export class Adding implements Purpose {
  constructor(private readonly frame: PageFrame) {}

  /** The address at which somebody who is signed in adds an account at a provider. @throws {Problem} not-found, invalid-input */
  async begin(environment: Environment, wanted: { client: string; userId: string; way: string; redirectUri: string }): Promise<string> {
    const { client, userId, way, redirectUri } = wanted;
    const { redirects } = await entryRules.read(environment);
    const allowed = Object.hasOwn(redirects, client) ? (redirects[client] ?? []) : [];
    if (!allowed.some((address) => isSameAddress(address, redirectUri)))
      throw new Problem(
        'invalid-input',
        `The address ${redirectUri} is not among those of client ${client}: ${allowed.join(', ') || 'it has none'}.`,
      );
    const found = await this.frame.demandWay(environment, client, way);
    if (!isVisited(found)) throw new Problem('not-found', `The way ${way} does not begin at a provider.`);
    const asked = { client, redirectUri, challenge: '', scope: ADDING, state: null, nonce: null };
    const { request, expiresAt } = this.frame.newRequest();
    await this.frame.store.add(environment, request, asked, expiresAt, userId);
    return `${this.frame.parts.userTokens.pageOf(environment)}/page/add?${new URLSearchParams({ request, way })}`;
  }

  /** Whose account it is that something is added to is shown first: the address could come from somebody else. */
  async ask(environment: Environment, call: IdentityCall, query: Record<string, unknown>): Promise<'streaming'> {
    const { frame } = this;
    const name = String(query.way ?? '');
    const found = await frame.named(environment, String(query.request ?? ''));
    const { scope, userId } = found?.open ?? {};
    const user = scope === ADDING && userId ? await frame.parts.userStore.find(environment, userId) : null;
    const way = found && user ? await frame.wayShown(environment, found, name) : null;
    if (!found || !user || !way) return frame.expired(environment, call);
    frame.setCookie(environment, call, found.request);
    const shown = await frame.shown(environment, call, found, { view: 'add', way, email: user.email ?? user.name ?? user.id });
    const ways = shown.ways.filter(({ href }) => href.endsWith(`/ways/${name}`));
    sendPage(call.response, 200, { ...shown, ways }, null);
    return 'streaming';
  }

  demandWay(environment: Environment, { open }: Opened, name: string) {
    return this.frame.demandWay(environment, open.client, name);
  }

  async end(environment: Environment, call: IdentityCall, { open }: Opened, { name, way, person }: FromOutside): Promise<'streaming'> {
    const { parts, store } = this.frame;
    const user = await parts.userStore.find(environment, open.userId ?? '');
    const code = parts.random(24).toString('base64url');
    const at = new Date(parts.now());
    // It is used up, whatever comes of it.
    const isFirst = user && (await store.grant(environment, open.hash, code, user.id, { now: at, expires: at }));
    if (!isFirst) return this.frame.expired(environment, call);
    const lead = (answer: Record<string, string>) =>
      leadTo(call, answerAddress(open.redirectUri, parts.userTokens.issuerOf(environment), open.state, answer));
    try {
      await parts.outsideWays.meeting.add(environment, name, way, person, user);
      return lead({ added: name });
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      return lead({ error: 'access_denied', error_description: error.detail });
    }
  }

  failed(environment: Environment, call: IdentityCall, found: Opened, name: string, error: Error): Promise<'streaming'> {
    this.frame.note(environment, name, error);
    return this.frame.show(environment, call, found, { view: 'ended', trouble: 'notAdded' }, 400);
  }
}
