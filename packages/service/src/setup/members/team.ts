/** Who is in the team, and with which roles. */
import { type Invitation, type MemberWayKind, Problem, type Role, type TeamMember } from '@orchard/contract';
import { withheld } from '@orchard/core';
import { orNone, originOf } from '../../platform/audit/audit.js';
import type { SignedInMember } from '../../platform/call.js';
import { MemberFactorStore } from './factorStore.js';
import type { MemberCall } from './factors.js';
import { invite } from './invitations.js';
import type { Parts } from './parts.js';
import { createMember, presentMember } from './signIn.js';
import { type MemberRow, MemberStore, type RoleRow } from './store.js';

type RoleChange = { app: string; environment?: string | undefined; role: Role | null };
type NewMember = {
  email: string;
  name?: string | undefined;
  owner?: boolean | undefined;
  roles?: RoleChange[] | undefined;
  password?: string | undefined;
};
type Changes = Pick<NewMember, 'name' | 'owner' | 'roles'>;

/** Who has a second factor, and by which ways members can be reached. */
type More = { withFactor: ReadonlySet<string>; ways: ReadonlyMap<string, MemberWayKind[]> };
const NOTHING_MORE: More = { withFactor: new Set(), ways: new Map() };

export class Team {
  readonly #store: MemberStore;
  readonly #factors: MemberFactorStore;

  constructor(private readonly parts: Parts) {
    this.#store = new MemberStore(parts.database);
    this.#factors = new MemberFactorStore(parts.database);
  }

  /**
   * Members as one of them sees them: owners see all; others those they share an environment with, without addresses, and
   * with roles in shared environments only.
   */
  async visibleTo(viewer: SignedInMember): Promise<TeamMember[]> {
    const [rows, roles, more] = await Promise.all([this.#store.list(), this.#store.roles(), this.#more()]);
    if (viewer.owner) return rows.map((row) => presentTeamMember(row, roles, more));
    const mine = new Set(roles.filter(({ memberId }) => memberId === viewer.id).map(({ environmentId }) => environmentId));
    const shared = roles.filter(({ environmentId }) => mine.has(environmentId));
    const beside = new Set(shared.map(({ memberId }) => memberId));
    return rows
      .filter(({ id, owner }) => id === viewer.id || owner || beside.has(id))
      .map((row) => presentTeamMember(row, shared, more))
      .map((member) => (member.id === viewer.id ? member : { ...member, email: null, secondFactor: null, reachableBy: null }));
  }

  /** Invites a member with roles, or adds one with a first password at once. */
  async add(
    { email, name, owner = false, roles = [], password }: NewMember,
    call: MemberCall,
  ): Promise<TeamMember & { invitation: Invitation | null }> {
    const given = await this.#environmentsOf(roles);
    const wanted = { email, name: name ?? (email.split('@')[0] as string), owner };
    const id = this.parts.newId();
    const watched = { kind: 'member', action: call.operation.id, subject: id, read: () => this.kept(id) } as const;
    const row = await this.parts.audit.watch(originOf(call), watched, async () => {
      const made = await createMember(this.parts, { ...wanted, id, password: password ?? null });
      await this.#store.setRoles(id, given);
      return made;
    });
    const invitation = password === undefined ? await invite(this.parts, row, call.member.name) : null;
    return { ...(await this.#presented(row.id)), invitation };
  }

  /** @throws {Problem} not-found, wrong-state for the last owner */
  async change(id: string, { name, owner, roles = [] }: Changes): Promise<TeamMember> {
    const member = await this.#store.named(id);
    const given = await this.#environmentsOf(roles);
    if (owner !== undefined && owner !== member.owner) await this.#store.setOwner(member, owner);
    if (name) await this.#store.rename(member.id, name);
    await this.#store.setRoles(member.id, given);
    return this.#presented(member.id);
  }

  /** @throws {Problem} not-found, wrong-state for the last owner */
  async remove(id: string): Promise<void> {
    await this.#store.setOwner(await this.#store.named(id), null);
    await this.parts.ports.memberRemoved(id);
  }

  /** Removes the second factors of a member who has lost them, and ends the member's sessions. @throws {Problem} not-found */
  async resetFactors(id: string): Promise<void> {
    await this.#store.named(id);
    await this.#factors.removeAll(id);
    await this.#factors.endSessions(id);
  }

  /** Sends an open invitation again. @throws {Problem} not-found, wrong-state */
  async inviteAgain(call: MemberCall, id: string): Promise<Invitation> {
    const member = await this.#store.named(id);
    if (member.joinedAt)
      throw new Problem('wrong-state', `${member.name} has joined already. To set a new password, use a one-time address.`);
    await this.parts.audit.note(originOf(call), { action: call.operation.id, kind: 'member', subject: id });
    return invite(this.parts, member, call.member.name);
  }

  /** What an audit entry keeps of a member: rights, and nothing personal. */
  async kept(id: string): Promise<object | null> {
    const row = await orNone(this.#store.named(id));
    if (!row) return null;
    const { owner, joinedAt, roles, name } = presentTeamMember(row, await this.#store.roles(), NOTHING_MORE);
    const byPlace = Object.fromEntries(roles.map(({ app, environment, role }) => [`${app}/${environment}`, role]));
    return withheld({ owner, joined: joinedAt !== null, name, roles: byPlace }, ['name'], this.parts.audit.fingerprint);
  }

  async #presented(id: string): Promise<TeamMember> {
    const [row, roles, more] = await Promise.all([this.#store.named(id), this.#store.roles(), this.#more()]);
    return presentTeamMember(row, roles, more);
  }

  async #more(): Promise<More> {
    const [withFactor, ways] = await Promise.all([this.#factors.owners(), this.parts.ports.waysOfMembers()]);
    return { withFactor, ways };
  }

  /** The environments that changes of roles name; later changes win. @throws {Problem} not-found */
  async #environmentsOf(changes: readonly RoleChange[]): Promise<Map<string, Role | null>> {
    const roles = new Map<string, Role | null>();
    for (const { app, environment, role } of changes)
      for (const id of await this.#store.environmentsOf(app, environment)) roles.set(id, role);
    return roles;
  }
}

function presentTeamMember(row: MemberRow, roles: readonly RoleRow[], { withFactor, ways }: More): TeamMember {
  return {
    ...presentMember(row),
    joinedAt: row.joinedAt?.toISOString() ?? null,
    lastSeenAt: row.lastSeenAt?.toISOString() ?? null,
    secondFactor: withFactor.has(row.id),
    reachableBy: ways.get(row.id) ?? [],
    roles: roles
      .filter(({ memberId }) => memberId === row.id)
      .map(({ app, environment, role }) => ({ app, environment, role: role as Role })),
  };
}
