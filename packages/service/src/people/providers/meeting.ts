/** Whose account it is: a person outside meets an account here. */
import { Problem, type ProviderAccount } from '@orchard/contract';
import { rolesOf, rolesOfGroups, withWayRoles } from '@orchard/core/accounts';
import type { Environment } from '../../platform/call.js';
import { demandSignUp } from '../users/entry.js';
import { originsOf } from '../users/roles.js';
import type { CredentialRow } from '../users/credentials.js';
import type { UserRow } from '../users/store.js';
import type { Parts } from './parts.js';
import { accountName, identifierOf, type OutsidePerson } from './person.js';
import type { ProviderTokenKeeper } from './providerTokens.js';
import { allWays, type SignInWay } from './ways.js';

/** Credentials of this kind are accounts at providers. */
const CREDENTIAL = 'provider';
type Verifier = { iss: string; sub: string; way?: string; account?: string };

/** Somebody else has the address, and it was not proved by both ways. */
export class OtherAccount extends Error {}

export class Meeting {
  constructor(
    private readonly parts: Parts,
    private readonly tokens: ProviderTokenKeeper,
  ) {}

  /** @throws {OtherAccount | Problem} sign-in-refused, access-refused */
  async accountOf(environment: Environment, name: string, way: SignInWay, person: OutsidePerson): Promise<UserRow> {
    const { user, email } = await this.meet(environment, person);
    return this.#keep(environment, name, way, person, user ?? (await this.#makeUser(environment, person, email)));
  }

  /**
   * The account that a person outside meets here; null where a new one is due. The same address joins two ways only when
   * both have proved it: else whoever controls an address at a careless provider would get the account.
   * @throws {OtherAccount | Problem} sign-in-refused, access-refused
   */
  async meet(
    environment: Environment,
    person: OutsidePerson,
  ): Promise<{ user: UserRow | null; email: string | null; by: 'account' | 'address' | null }> {
    const { userStore } = this.parts;
    const email = person.emailProved ? person.email : null;
    const known = await userStore.findByCredential(environment, CREDENTIAL, identifierOf(person));
    const other = known || email === null ? null : await userStore.findByEmail(environment, email);
    if (other && !other.emailConfirmedAt) throw new OtherAccount();
    const user = known ?? other;
    if (user?.disabled) throw new Problem('sign-in-refused');
    if (!user) await demandSignUp(environment, { email: email ?? '' }, { isOutside: true });
    return { user, email, by: known ? 'account' : other ? 'address' : null };
  }

  #makeUser(environment: Environment, { name }: OutsidePerson, email: string | null): Promise<UserRow> {
    const emailConfirmedAt = email ? new Date(this.parts.now()) : undefined;
    return this.parts.userSessions.makeUser(environment, { email, name: name ?? undefined, emailConfirmedAt });
  }

  /** Adds an account at a provider to one that is signed in. @throws {Problem} already-exists */
  async add(environment: Environment, name: string, way: SignInWay, person: OutsidePerson, user: UserRow): Promise<void> {
    const other = await this.parts.userStore.findByCredential(environment, CREDENTIAL, identifierOf(person));
    if (other && other.id !== user.id)
      throw new Problem('already-exists', `${accountName(person)} signs in to another account already. Remove it there first.`);
    await this.#keep(environment, name, way, person, user);
  }

  /** Keeps what the provider says now: the account there, its tokens, and the roles of its groups. */
  async #keep(environment: Environment, name: string, way: SignInWay, person: OutsidePerson, user: UserRow): Promise<UserRow> {
    const { userStore } = this.parts;
    const verifier: Verifier = { iss: person.issuer, sub: person.subject, way: name, account: accountName(person) };
    const row: CredentialRow = {
      id: this.parts.newId(),
      userId: user.id,
      kind: CREDENTIAL,
      identifier: identifierOf(person),
      verifier: JSON.stringify(verifier),
      createdAt: new Date(this.parts.now()),
    };
    await userStore.addCredential(environment, row);
    if (person.tokens && 'keepTokens' in way && way.keepTokens) {
      // An account that was there already keeps its id.
      const credential = (await userStore.credential(environment, user.id, CREDENTIAL, row.identifier)) ?? row;
      await this.tokens.keep(environment, { credentialId: credential.id, userId: user.id, way: name }, person.tokens);
    }
    return this.#giveRoles(environment, name, way, person, user);
  }

  async #giveRoles(environment: Environment, name: string, way: SignInWay, { groups }: OutsidePerson, user: UserRow): Promise<UserRow> {
    const before = originsOf(user);
    const given = rolesOfGroups(way.roles, groups);
    if (given.length === 0 && !Object.hasOwn(before.ways, name)) return user;
    const after = withWayRoles(before, name, given);
    if (JSON.stringify(after) === JSON.stringify(before)) return user;
    const changes = { roles: rolesOf(after), roleOrigins: after };
    await this.parts.userStore.update(environment, user.id, { ...changes, updatedAt: new Date(this.parts.now()) });
    this.parts.userTokens.forget({ userId: user.id });
    return { ...user, ...changes };
  }

  /** The accounts at providers of a user. */
  async list(environment: Environment, userId: string): Promise<{ items: ProviderAccount[]; password: boolean }> {
    const [rows, ways, password] = await Promise.all([
      this.parts.userStore.credentials(environment, userId, CREDENTIAL),
      allWays(environment),
      this.parts.userSessions.hasPassword(environment, userId),
    ]);
    return { items: rows.map((row) => presentAccount(row, new Map(ways))), password };
  }

  /** @throws {Problem} not-found; wrong-state for the last way in */
  async remove(environment: Environment, user: UserRow, id: string): Promise<void> {
    const { items, password } = await this.list(environment, user.id);
    const found = items.find((one) => one.id === id);
    if (!found) throw new Problem('not-found', 'You have no such account at a provider.');
    if (items.length === 1 && !password && user.email === null)
      throw new Problem('wrong-state', 'It is the only way to sign in to this account. Add another one first.');
    await this.tokens.forget(environment, { credentialId: id });
    await this.parts.userStore.removeCredential(environment, user.id, id);
    if (found.way === null || items.some((one) => one.id !== id && one.way === found.way)) return;
    const left = withWayRoles(originsOf(user), found.way, []);
    await this.parts.userStore.update(environment, user.id, {
      roles: rolesOf(left),
      roleOrigins: left,
      updatedAt: new Date(this.parts.now()),
    });
    this.parts.userTokens.forget({ userId: user.id });
  }
}

function presentAccount({ id, verifier, createdAt }: CredentialRow, ways: ReadonlyMap<string, SignInWay>): ProviderAccount {
  const { iss, sub, way, account } = JSON.parse(verifier) as Verifier;
  const known = way === undefined ? undefined : ways.get(way);
  return { id, way: known ? (way as string) : null, title: known?.title ?? iss, account: account ?? sub, addedAt: createdAt.toISOString() };
}
