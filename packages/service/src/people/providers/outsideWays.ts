/** Signing in at a provider outside, whatever it speaks: there, back, and who it was. */
import { Problem } from '@orchard/contract';
import { hashKey, newSecret, seal, unseal } from '../../platform/access/secrets.js';
import type { Environment } from '../../platform/call.js';
import { guessesAt } from '../users/entry.js';
import type { UserRow } from '../users/store.js';
import { Directories, DirectoryAway } from './directory.js';
import { ForeignTokens } from './foreignTokens.js';
import { Meeting } from './meeting.js';
import { type Begun, OpenIdProviders, openIdWords } from './openid.js';
import { OutsideHttp } from './outsideHttp.js';
import type { Parts } from './parts.js';
import type { OutsidePerson } from './person.js';
import { ProviderTokenKeeper } from './providerTokens.js';
import { SamlProviders, type SamlRequest, samlWords } from './saml.js';
import { SignInStore } from './signInStore.js';
import { isVisited, namedWay, type SignInWay, type WayOf, wayForClient, waysOfClient } from './ways.js';

const THERE_MS = 10 * 60_000;

/** What a posted response came to, until the browser takes it up. */
type Received = { person: OutsidePerson } | { refused: string };

function receivedPerson(received: Received): OutsidePerson {
  if ('refused' in received) throw new Error(received.refused);
  return received.person;
}

type Addresses = { page: (environment: Environment) => string; entity: (environment: Environment) => string };

export class OutsideWays {
  readonly http: OutsideHttp;
  readonly openid: OpenIdProviders;
  readonly saml: SamlProviders;
  readonly directories: Directories;
  readonly foreign: ForeignTokens;
  readonly tokens: ProviderTokenKeeper;
  readonly meeting: Meeting;
  readonly store = new SignInStore();

  /** @param addresses where the pages of an environment are, and what its entity id begins with; those of its sign-in page otherwise */
  constructor(
    private readonly parts: Parts,
    private readonly addresses: Addresses = {
      page: (environment) => parts.userTokens.pageOf(environment),
      entity: (environment) => parts.userTokens.issuerOf(environment),
    },
  ) {
    const { now } = parts;
    this.http = new OutsideHttp(parts);
    this.openid = new OpenIdProviders(this.http, now);
    this.saml = new SamlProviders(now);
    this.directories = new Directories(this.http);
    this.foreign = new ForeignTokens(this.http, now);
    this.tokens = new ProviderTokenKeeper(parts, this.openid);
    this.meeting = new Meeting(parts, this.tokens);
  }

  redirectAddress(environment: Environment, name: string): string {
    return `${this.addresses.page(environment)}/ways/${name}/return`;
  }

  metadataAddress(environment: Environment, name: string): string {
    return `${this.addresses.entity(environment)}/ways/${name}/metadata`;
  }

  samlGround(environment: Environment, name: string) {
    return { entityId: this.metadataAddress(environment, name), callbackUrl: this.redirectAddress(environment, name) };
  }

  /** Those that the page of a client offers. */
  async of(environment: Environment, client: string): Promise<[name: string, way: SignInWay][]> {
    return (await waysOfClient(environment, client)).filter(([, way]) => isVisited(way) || way.kind === 'directory');
  }

  /** To where the browser goes. @param request of our own page, as the browser holds it */
  async begin(environment: Environment, name: string, way: SignInWay, request: string): Promise<SamlRequest> {
    if (way.kind === 'saml') {
      const [requestId, state] = [`_${newSecret()}`, newSecret()];
      const sent = await this.saml.begin(environment, name, way, this.samlGround(environment, name), { requestId, state });
      await this.#remember(environment, { state, request, way: name, detail: '', nonce: requestId });
      return sent;
    }
    if (way.kind !== 'openid' && way.kind !== 'oauth') throw new Problem('not-found', `The way ${name} does not begin at a provider.`);
    const { address, begun } = await this.openid.begin(environment, name, way, this.redirectAddress(environment, name));
    await this.#remember(environment, { state: begun.state, request, way: name, detail: begun.verifier, nonce: begun.nonce });
    return { address, form: null };
  }

  #remember(
    environment: Environment,
    begun: { state: string; request: string; way: string; detail: string; nonce: string },
  ): Promise<void> {
    const stateHash = hashKey(begun.state);
    return this.store.begin(environment, {
      stateHash,
      requestHash: hashKey(begun.request),
      way: begun.way,
      verifier: seal(environment.keys.data, `verifier ${stateHash}`, begun.detail),
      nonce: begun.nonce,
      expiresAt: new Date(this.parts.now() + THERE_MS),
    });
  }

  /** @throws {Error} when nothing of the kind was begun */
  async #take(environment: Environment, name: string, state: string) {
    const begun = await this.store.end(environment, state, new Date(this.parts.now()));
    if (!begun || begun.way !== name) throw new Error('It was not begun in this browser, or too long ago.');
    return { ...begun, detail: unseal(environment.keys.data, `verifier ${begun.stateHash}`, begun.verifier).toString() };
  }

  /**
   * A response that a provider posts: a browser sends no cookie with it, so it is checked now and taken up by an address
   * that the browser then opens by itself.
   */
  async receive(environment: Environment, name: string, { response, state }: { response: string; state: string }): Promise<string> {
    const begun = await this.#take(environment, name, state);
    const way = await namedWay(environment, name);
    if (way.kind !== 'saml') throw new Error('This way takes no posted responses.');
    // A refusal goes the same way: what the visit was for is known with the browser's cookie.
    const read: Received = await this.#readSaml(environment, name, way, { response, requestId: begun.nonce }).then(
      (person) => ({ person }),
      ({ message }: Error) => ({ refused: message }),
    );
    const next = newSecret();
    await this.store.begin(environment, {
      ...begun,
      stateHash: hashKey(next),
      verifier: seal(environment.keys.data, `verifier ${hashKey(next)}`, JSON.stringify(read)),
      nonce: '',
    });
    return `${this.redirectAddress(environment, name)}?state=${next}`;
  }

  async #readSaml(environment: Environment, name: string, way: WayOf<'saml'>, answer: { response: string; requestId: string }) {
    try {
      return await this.saml.end(environment, name, way, this.samlGround(environment, name), answer);
    } catch (error) {
      throw new Error(samlWords(error as Error), { cause: error });
    }
  }

  /** Whoever comes back from the provider. @throws {Error} */
  async end(environment: Environment, name: string, query: URLSearchParams, request: string): Promise<OutsidePerson> {
    const state = query.get('state') ?? '';
    const begun = await this.#take(environment, name, state);
    if (begun.requestHash !== hashKey(request)) throw new Error('It was not begun in this browser, or too long ago.');
    const way = await namedWay(environment, name);
    if (way.kind === 'saml') return receivedPerson(JSON.parse(begun.detail) as Received);
    if (way.kind !== 'openid' && way.kind !== 'oauth') throw new Error('This way does not begin at a provider.');
    const back = new URL(`${this.redirectAddress(environment, name)}?${query}`);
    const known: Begun = { verifier: begun.detail, state, nonce: begun.nonce };
    try {
      return await this.openid.end(environment, name, way, back, known);
    } catch (error) {
      throw new Error(openIdWords(error as Error, way, this.redirectAddress(environment, name)), { cause: error });
    }
  }

  /** A nonce for an ID token that an app gets by itself. */
  async makeNonce(environment: Environment, client: string, name: string): Promise<{ nonce: string; expiresAt: string }> {
    await wayForClient(environment, client, name, ['openid']);
    const nonce = newSecret();
    await this.#remember(environment, { state: nonce, request: client, way: name, detail: '', nonce: '' });
    return { nonce, expiresAt: new Date(this.parts.now() + THERE_MS).toISOString() };
  }

  /** Whom a token names that an app hands over. @throws {Problem} not-found, sign-in-refused, busy */
  async byToken(environment: Environment, client: string, name: string, token: string): Promise<{ way: SignInWay; person: OutsidePerson }> {
    const way = await wayForClient(environment, client, name, ['openid', 'tokens']);
    try {
      if (way.kind === 'tokens') return { way, person: await this.foreign.readToken(way, token) };
      const begun = await this.#take(environment, name, this.foreign.nonceOf(token));
      if (begun.requestHash !== hashKey(client)) throw new Error('The nonce was made for another client.');
      return { way, person: await this.foreign.readIdToken(way, await this.#keysOf(environment, name, way), token) };
    } catch (error) {
      throw this.#refused(environment, name, error as Error);
    }
  }

  async #keysOf(environment: Environment, name: string, way: WayOf<'openid'>): Promise<string> {
    const address = (await this.openid.configure(environment, name, way)).serverMetadata().jwks_uri;
    if (!address) throw new Error('The provider publishes no keys.');
    return address;
  }

  /** The team reads why in the log; whoever tries learns only that it was refused. */
  #refused(environment: Environment, name: string, error: Error): Problem {
    if (error instanceof Problem) return error;
    this.parts.ports.logEntry(environment, { level: 'warning', source: `sign-in way ${name}`, text: error.message });
    return new Problem('sign-in-refused', 'The provider’s answer is not accepted. The team finds the reason in the log.');
  }

  /** Whoever has this name and password in a directory. @throws {Problem} not-found, sign-in-refused, rate-exceeded, busy */
  async atDirectory(
    environment: Environment,
    client: string,
    name: string,
    given: { user: string; password: string; address: string },
  ): Promise<{ way: SignInWay; person: OutsidePerson }> {
    const way = await wayForClient(environment, client, name, ['directory']);
    const guesses = await guessesAt(this.parts, environment);
    const account = `${name} ${given.user.toLowerCase()}`;
    const known = await guesses.demand(account, given.address);
    const person = await this.#askDirectory(environment, name, way, given);
    if (!person) {
      await guesses.noteFailure(account, given.address);
      throw new Problem('sign-in-refused', 'Name or password is wrong.');
    }
    await guesses.noteSuccess(account, given.address, known);
    return { way, person };
  }

  async #askDirectory(
    environment: Environment,
    name: string,
    way: WayOf<'directory'>,
    { user, password }: { user: string; password: string },
  ) {
    try {
      return await this.directories.signIn(environment, name, way, user, password);
    } catch (error) {
      if (!(error instanceof DirectoryAway)) throw error;
      this.parts.ports.logEntry(environment, { level: 'warning', source: `sign-in way ${name}`, text: error.message });
      throw new Problem('busy', 'The directory cannot be asked at the moment. Try again later.');
    }
  }

  accountOf(environment: Environment, name: string, way: SignInWay, person: OutsidePerson): Promise<UserRow> {
    return this.meeting.accountOf(environment, name, way, person);
  }

  close(): Promise<void> {
    return this.http.close();
  }
}
