/** Automation tokens: who may create which, and what they look like. */
import { type AutomationToken, Problem, type Role } from '@orchard/contract';
import { formatKey } from '@orchard/core';
import { heldBackWords, roleReaches } from '../../platform/access/memberDirectory.js';
import { hashKey } from '../../platform/access/secrets.js';
import { authorOf, type Call, type SignedInMember } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';
import { type TokenRole, type TokenRow, TokenStore } from './store.js';

const DAY_MS = 86_400_000;

type NewToken = { name: string; roles: { app: string; environment?: string | undefined; role: Role }[]; days: number };

export class Tokens {
  readonly #store: TokenStore;

  constructor(private readonly parts: Platform) {
    this.#store = new TokenStore(parts.database);
  }

  /** The tokens with a role in an environment that the viewer maintains; owners see all. */
  async visibleTo(viewer: SignedInMember): Promise<AutomationToken[]> {
    const [rows, roles, own] = await Promise.all([this.#store.list(), this.#store.roles(), this.parts.members.rolesOf(viewer)]);
    const maintained = (id: string) => roleReaches(own.get(id) ?? 'viewer', 'maintainer');
    return rows
      .filter(({ id }) => viewer.owner || roles.some(({ tokenId, environmentId }) => tokenId === id && maintained(environmentId)))
      .map((row) => this.#present(row, viewer.owner ? roles : roles.filter(({ environmentId }) => maintained(environmentId))));
  }

  /** Creates a token and returns it whole, this once. @throws {Problem} not-found, role-insufficient */
  async create(call: Pick<Call, 'user' | 'holder'> & { member: SignedInMember }, { name, roles, days }: NewToken) {
    const token = formatKey('automation', this.parts.random(16));
    const now = this.parts.now();
    const row: TokenRow = {
      id: this.parts.newId(),
      name,
      hash: hashKey(token),
      hint: token.slice(-6),
      createdBy: authorOf(call),
      createdAt: new Date(now),
      expiresAt: new Date(now + days * DAY_MS),
      lastUsedAt: null,
      lastUsedFrom: null,
      revokedAt: null,
    };
    await this.#store.add(row, await this.#within(call.member, roles));
    this.parts.actors.forget();
    return { ...(await this.#named(row.id)), token };
  }

  /** @throws {Problem} not-found, role-insufficient */
  async revoke(member: SignedInMember, id: string): Promise<void> {
    if (!(await this.visibleTo(member)).some((token) => token.id === id))
      throw new Problem('not-found', `There is no automation token ${id} that you may revoke. \`orchard token list\` lists them.`);
    await this.#store.revoke(id, new Date(this.parts.now()));
  }

  /** A token as it is now; null if there is none. */
  async find(id: string): Promise<AutomationToken | null> {
    const row = await this.#store.find(id);
    return row ? this.#present(row, await this.#store.roles()) : null;
  }

  async #named(id: string): Promise<AutomationToken> {
    return (await this.find(id)) as AutomationToken;
  }

  /** The environments of wanted roles; nobody gives more than they have. */
  async #within(member: SignedInMember, wanted: NewToken['roles']): Promise<Map<string, Role>> {
    const own = await this.parts.members.rolesOf(member);
    const given = new Map<string, Role>();
    for (const { app, environment, role } of wanted)
      for (const place of await this.#store.placesOf(app, environment)) {
        const mine = own.get(place.id);
        if (!mine || !roleReaches(mine, 'maintainer') || !roleReaches(mine, role))
          throw new Problem(
            'role-insufficient',
            `A token with the role ${role} in ${place.app}/${place.environment} needs a member who is maintainer there and has that role. ${await this.#roleWords(member, place, mine)}`,
          );
        given.set(place.id, role);
      }
    return given;
  }

  async #roleWords(member: SignedInMember, { id, app }: { id: string; app: string }, held: Role | undefined): Promise<string> {
    const given = member.owner ? 'owner' : (await this.parts.members.givenRoles(member)).get(id);
    if (given && given !== held) return heldBackWords(given, app);
    return held ? `Your role is ${held}.` : 'You have no role there.';
  }

  #present({ hash: _, ...row }: TokenRow, roles: readonly TokenRole[]): AutomationToken {
    return {
      ...row,
      createdBy: this.parts.actors.show(row.createdBy),
      createdAt: row.createdAt.toISOString(),
      expiresAt: row.expiresAt.toISOString(),
      lastUsedAt: row.lastUsedAt?.toISOString() ?? null,
      revokedAt: row.revokedAt?.toISOString() ?? null,
      roles: roles
        .filter(({ tokenId }) => tokenId === row.id)
        .map(({ app, environment, role }) => ({ app, environment, role: role as Role })),
    };
  }
}
