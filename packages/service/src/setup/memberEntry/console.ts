/** From the console's sign-in page to a provider, and back into the console. */
import { Problem } from '@orchard/contract';
import { parse as parseCookie } from 'cookie';
import { sendForm } from '../../people/identity/page.js';
import type { OutsideWays } from '../../people/providers/outsideWays.js';
import type { OutsidePerson } from '../../people/providers/person.js';
import { isVisited, namedWay } from '../../people/providers/ways.js';
import { methodsOf } from '../../platform/access/confirmation.js';
import { readTicket, writeTicket } from '../../platform/access/tickets.js';
import type { Call } from '../../platform/call.js';
import { readForm } from '../../platform/http/forms.js';
import { leadTo } from '../../platform/http/leading.js';
import { memberFactors } from '../members/factors.js';
import { type AnyCall, beginSession, presentMember } from '../members/signIn.js';
import { type MemberRow, MemberStore } from '../members/store.js';
import { memberOf } from './entry.js';
import type { Parts } from './parts.js';

export type PageCall = AnyCall & Pick<Call, 'headers'>;
const COOKIE = 'orchard_member_entry';
const PATH = '/member-sign-in';
const OPEN_S = 600;
const TICKET = 'ticket of a member';

export class ConsoleEntry {
  constructor(
    private readonly parts: Parts,
    private readonly outside: OutsideWays,
  ) {}

  /** To the provider. */
  async there(call: PageCall, name: string): Promise<'streaming'> {
    const environment = this.parts.directory.installation();
    const request = this.parts.random(24).toString('base64url');
    try {
      const way = await namedWay(environment, name);
      if (!isVisited(way)) throw new Problem('not-found', `The way ${name} does not begin at a provider.`);
      const { address, form } = await this.outside.begin(environment, name, way, request);
      const secure = this.parts.address().startsWith('https:') ? '; Secure' : '';
      call.response.setHeader('set-cookie', `${COOKIE}=${request}; Path=${PATH}; HttpOnly; SameSite=Lax; Max-Age=${OPEN_S}${secure}`);
      if (!form) return leadTo(call, address);
      const shown = { app: 'Vivid Orchard', colour: null, picture: null, action: '', request, view: 'ended', languages: ['en'] } as const;
      const rest = { may: { code: false, signUp: false, passkey: false }, terms: null, ways: [], way: { name, title: way.title } };
      sendForm(call.response, { ...shown, ...rest }, { address, form });
      return 'streaming';
    } catch (error) {
      return this.#failed(call, name, error as Error);
    }
  }

  /** What a provider posts: a browser sends no cookie with it, so it is taken up by an address that the browser opens by itself. */
  async posted(call: PageCall, name: string): Promise<'streaming'> {
    const { SAMLResponse = '', RelayState = '' } = await readForm(call, 'large');
    try {
      const answer = { response: SAMLResponse, state: RelayState };
      return leadTo(call, await this.outside.receive(this.parts.directory.installation(), name, answer));
    } catch (error) {
      return this.#failed(call, name, error as Error);
    }
  }

  /** Back from the provider: into the console, or to its question for the second factor. */
  async back(call: PageCall, name: string): Promise<'streaming'> {
    const request = parseCookie(call.headers.cookie ?? '')[COOKIE] ?? '';
    const query = new URL(call.request.originalUrl, 'http://service').searchParams;
    try {
      const person = await this.outside.end(this.parts.directory.installation(), name, query, request);
      const member = await memberOf(this.parts, name, person);
      if (await this.#needsFactor(member)) return leadTo(call, `/second-factor#${this.#ticketOf(member)}`);
      await beginSession(this.parts, call, presentMember(member), 'cookie');
      return leadTo(call, '/');
    } catch (error) {
      return this.#failed(call, name, error as Error);
    }
  }

  async atDirectory(
    call: PageCall,
    { way, user, password, code }: { way: string; user: string; password: string; code?: string | undefined },
  ) {
    const given = { user, password, address: call.request.ip ?? '' };
    const found = await this.outside.atDirectory(this.parts.directory.installation(), '', way, given);
    return this.#enter(call, way, found.person, code);
  }

  async #enter(call: PageCall, way: string, person: OutsidePerson, code: string | undefined) {
    const member = await memberOf(this.parts, way, person);
    if (await this.#needsFactor(member)) {
      if (code === undefined) throw new Problem('second-factor-needed', undefined, { methods: ['code'] });
      await memberFactors(this.parts).useCode(member.id, code, call.request.ip ?? '');
    }
    return this.#begun(call, member);
  }

  /** @throws {Problem} link-refused, second-factor-refused, rate-exceeded */
  async finish(call: PageCall, { ticket, code }: { ticket: string; code: string }) {
    const memberId = this.#readTicket(ticket);
    await memberFactors(this.parts).useCode(memberId, code, call.request.ip ?? '');
    return this.#begun(call, await new MemberStore(this.parts.database).named(memberId));
  }

  async #begun(call: PageCall, member: MemberRow): Promise<{ csrf?: string }> {
    const { csrf } = await beginSession(this.parts, call, presentMember(member), 'cookie');
    return csrf === undefined ? {} : { csrf };
  }

  async #needsFactor({ id }: MemberRow): Promise<boolean> {
    return !(await methodsOf(this.parts, id)).includes('password');
  }

  #ticketOf({ id }: MemberRow): string {
    return writeTicket(this.parts.secretKey, TICKET, { id }, this.parts.now());
  }

  #readTicket(ticket: string): string {
    const read = readTicket<{ id: string }>(this.parts.secretKey, TICKET, ticket, this.parts.now());
    if (!read) throw new Problem('link-refused', 'The sign-in was begun more than five minutes ago. Begin again.');
    return read.id;
  }

  /** The sign-in page says what members can do about it; the log says the rest. */
  #failed(call: PageCall, name: string, error: Error): 'streaming' {
    this.parts.log.warn({ way: name, err: error.message }, 'a sign-in of a member at a provider failed');
    const words =
      error instanceof Problem ? error.detail : 'The provider’s answer is not accepted. An owner finds the reason in the service’s log.';
    return leadTo(call, `/sign-in?refused=${encodeURIComponent(words)}`);
  }
}
