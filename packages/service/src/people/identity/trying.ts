/** Trying a way to sign in: a made-up person goes to the provider, and the page shows each step's answer. */
import { Problem, type WaySteps } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import { tryWay } from '../providers/trial.js';
import { isVisited, namedWay, type SignInWay } from '../providers/ways.js';
import { TRYING } from './authorizationStore.js';
import { type IdentityCall, type Opened, type PageFrame, queryOf } from './pageFrame.js';
import { sendTrial, type TrialPage } from './trialPage.js';
import type { FromOutside, Purpose } from './visits.js';

export class Trying implements Purpose {
  constructor(private readonly frame: PageFrame) {}

  /** An address for the browser of whoever tries the way. @throws {Problem} not-found, wrong-state */
  async begin(environment: Environment, name: string): Promise<{ address: string; expiresAt: string }> {
    const way = await namedWay(environment, name);
    if (!isVisited(way))
      throw new Problem('wrong-state', `Nobody visits a provider by the way ${name}. \`orchard sign-in-way check ${name}\` tries it.`);
    const { request, expiresAt } = this.frame.newRequest();
    const redirectUri = this.frame.parts.userTokens.pageOf(environment);
    // The request is for this way alone; what `state` holds for an app is free here.
    const asked = { client: '', redirectUri, challenge: '', scope: TRYING, state: name, nonce: null };
    await this.frame.store.add(environment, request, asked, expiresAt);
    return { address: this.#address(environment, request), expiresAt: expiresAt.toISOString() };
  }

  #address(environment: Environment, request: string): string {
    return `${this.frame.parts.userTokens.pageOf(environment)}/page/try?${new URLSearchParams({ request })}`;
  }

  /** What is going to happen, before it does: the address may have reached somebody else. */
  async ask(environment: Environment, call: IdentityCall, query: Record<string, unknown>): Promise<'streaming'> {
    const found = await this.frame.named(environment, String(query.request ?? ''));
    const name = found?.open.state;
    if (found?.open.scope !== TRYING || !name) return this.frame.expired(environment, call);
    this.frame.setCookie(environment, call, found.request);
    const { title } = await namedWay(environment, name);
    const page = this.frame.parts.userTokens.pageOf(environment);
    return this.#show(environment, call, found, {
      title,
      steps: null,
      next: `${new URL(page).pathname}/ways/${name}`,
      redirectAddress: this.frame.parts.outsideWays.redirectAddress(environment, name),
    });
  }

  async demandWay(environment: Environment, { open }: Opened, name: string): Promise<SignInWay> {
    if (open.state !== name) throw new Problem('not-found', `This trial is of the way ${open.state}.`);
    return namedWay(environment, name);
  }

  end(environment: Environment, call: IdentityCall, found: Opened, { name, way, person }: FromOutside): Promise<'streaming'> {
    const trial = tryWay(this.frame.parts.outsideWays, environment, name, way, { query: queryOf(call), person });
    return this.#told(environment, call, found, way, trial);
  }

  async failed(environment: Environment, call: IdentityCall, found: Opened, _name: string, error: Error): Promise<'streaming'> {
    const name = found.open.state ?? '';
    const way = await namedWay(environment, name);
    const trial = tryWay(this.frame.parts.outsideWays, environment, name, way, { query: queryOf(call), refused: error });
    return this.#told(environment, call, found, way, trial);
  }

  async #told(environment: Environment, call: IdentityCall, found: Opened, { title }: SignInWay, trial: Promise<WaySteps>) {
    const { steps } = await trial;
    return this.#show(environment, call, found, { title, steps, next: this.#address(environment, found.request), redirectAddress: null });
  }

  async #show(environment: Environment, call: IdentityCall, found: Opened, trial: TrialPage): Promise<'streaming'> {
    const shown = await this.frame.shown(environment, call, found, { view: 'ended' });
    sendTrial(call.response, shown, trial);
    return 'streaming';
  }
}
