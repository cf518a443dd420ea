/** Visits to providers outside: there, back, and on with what the visit is for. */
import type { Environment } from '../../platform/call.js';
import { leadTo } from '../../platform/http/leading.js';
import type { OutsidePerson } from '../providers/person.js';
import { isVisited, type SignInWay } from '../providers/ways.js';
import type { TokenForm } from './issuer.js';
import { sendForm } from './page.js';
import { type IdentityCall, type Opened, type PageFrame, queryOf } from './pageFrame.js';

export type FromOutside = { name: string; way: SignInWay; person: OutsidePerson };

/** What somebody visits a provider for. */
export interface Purpose {
  /** The way that the request may use. @throws {Problem} not-found */
  demandWay(environment: Environment, found: Opened, name: string): Promise<SignInWay>;
  /** Goes on with whoever comes back. */
  end(environment: Environment, call: IdentityCall, found: Opened, outside: FromOutside): Promise<'streaming'>;
  /** Tells what can be told of a visit that did not succeed. */
  failed(environment: Environment, call: IdentityCall, found: Opened, name: string, error: Error): Promise<'streaming'>;
}

export class Visits {
  /** @param errands purposes by the scope of their requests; every other request signs in */
  constructor(
    private readonly frame: PageFrame,
    private readonly signIn: Purpose,
    private readonly errands: Readonly<Record<string, Purpose>>,
  ) {}

  #purposeOf({ open }: Opened): Purpose {
    return this.errands[open.scope] ?? this.signIn;
  }

  /** From the page to the provider; of a directory, to the view that asks for its password. */
  async there(environment: Environment, call: IdentityCall, name: string): Promise<'streaming'> {
    const found = await this.frame.opened(environment, call);
    if (!found) return this.frame.expired(environment, call);
    const purpose = this.#purposeOf(found);
    try {
      const way = await purpose.demandWay(environment, found, name);
      const shown = { name, title: way.title };
      if (!isVisited(way)) return await this.frame.show(environment, call, found, { view: 'directory', way: shown });
      const { address, form } = await this.frame.parts.outsideWays.begin(environment, name, way, found.request);
      if (!form) return leadTo(call, address);
      sendForm(call.response, await this.frame.shown(environment, call, found, { view: 'password', way: shown }), { address, form });
      return 'streaming';
    } catch (error) {
      return purpose.failed(environment, call, found, name, error as Error);
    }
  }

  /** What a provider posts: it is checked, and taken up by the browser with its cookie. */
  async posted(environment: Environment, call: IdentityCall, name: string, form: TokenForm): Promise<'streaming'> {
    const { outsideWays } = this.frame.parts;
    try {
      const answer = { response: form.SAMLResponse ?? '', state: form.RelayState ?? '' };
      return leadTo(call, await outsideWays.receive(environment, name, answer));
    } catch (error) {
      this.frame.note(environment, name, error as Error);
      // The browser sent no cookie: which request of the page it was is known after one more step.
      return leadTo(call, `${outsideWays.redirectAddress(environment, name)}?error=refused`);
    }
  }

  /** From the provider, on with what the visit was for. */
  async back(environment: Environment, call: IdentityCall, name: string): Promise<'streaming'> {
    const found = await this.frame.opened(environment, call);
    if (!found) return this.frame.expired(environment, call);
    const purpose = this.#purposeOf(found);
    try {
      const way = await purpose.demandWay(environment, found, name);
      const person = await this.frame.parts.outsideWays.end(environment, name, queryOf(call), found.request);
      return await purpose.end(environment, call, found, { name, way, person });
    } catch (error) {
      return purpose.failed(environment, call, found, name, error as Error);
    }
  }
}
