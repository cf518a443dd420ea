/** Members with their passwords, sessions, roles and invitations, as rows. */
import { Problem, type Role } from '@orchard/contract';
import { and, desc, eq, gt, inArray, isNotNull, isNull, like, ne } from 'drizzle-orm';
import {
  environments,
  memberCredentials,
  memberInvitations,
  memberMailChanges,
  memberRoles,
  memberSessions,
  members,
} from '../../platform/access/systemTables.js';
import type { Database } from '../../platform/database/connection.js';
import { isDuplicate } from '../../platform/database/errors.js';

export type MemberRow = typeof members.$inferSelect;
type SessionRow = typeof memberSessions.$inferSelect;
type Password = { id: string; verifier: string; createdAt: Date };
export type RoleRow = { memberId: string; environmentId: string; app: string; environment: string; role: string };

export class MemberStore {
  constructor(private readonly database: Database) {}

  get #orm() {
    return this.database.orm;
  }

  async isEmpty(): Promise<boolean> {
    return (await this.#orm.select({ id: members.id }).from(members).limit(1)).length === 0;
  }

  list(): Promise<MemberRow[]> {
    return this.#orm.select().from(members).orderBy(members.createdAt);
  }

  async findByEmail(email: string): Promise<MemberRow | undefined> {
    return (await this.#orm.select().from(members).where(eq(members.email, email)))[0];
  }

  /** @throws {Problem} not-found */
  async named(id: string): Promise<MemberRow> {
    const [row] = await this.#orm.select().from(members).where(eq(members.id, id));
    if (!row) throw new Problem('not-found', `There is no member ${id}. \`orchard member list\` lists them.`);
    return row;
  }

  /** Adds a member, without a password as long as the invitation is open. @throws {Problem} already-exists */
  async add(row: MemberRow, password: Password | null): Promise<void> {
    try {
      await this.#orm.transaction(async (on) => {
        await on.insert(members).values(row);
        if (password) await on.insert(memberCredentials).values({ ...password, memberId: row.id, kind: 'password' });
      });
    } catch (error) {
      if (isDuplicate(error)) throw new Problem('already-exists', `There is a member ${row.email} already.`);
      throw error;
    }
  }

  async rename(id: string, name: string): Promise<void> {
    await this.#orm.update(members).set({ name }).where(eq(members.id, id));
  }

  /** Changes ownership of the installation, or removes a member (null). @throws {Problem} wrong-state for the last owner */
  async setOwner(member: MemberRow, owner: boolean | null): Promise<void> {
    await this.#orm.transaction(async (on) => {
      // The owners' rows are locked, so that two owners cannot remove each other at the same moment.
      const owners = await on
        .select({ id: members.id })
        .from(members)
        .where(and(eq(members.owner, true), isNotNull(members.joinedAt)))
        .for('update');
      if (!owner && owners.length === 1 && owners[0]?.id === member.id)
        throw new Problem('wrong-state', `${member.name} is the only owner. Without an owner no one could add members any more.`);
      if (owner === null) await on.delete(members).where(eq(members.id, member.id));
      else await on.update(members).set({ owner }).where(eq(members.id, member.id));
    });
  }

  /** The verifier of a member's password; undefined for an account without one. */
  async passwordOf(memberId: string): Promise<string | undefined> {
    const [row] = await this.#orm
      .select({ verifier: memberCredentials.verifier })
      .from(memberCredentials)
      .where(and(eq(memberCredentials.memberId, memberId), eq(memberCredentials.kind, 'password')));
    return row?.verifier;
  }

  /** Sets a password; sessions other than `kept` end. A member who had none has joined with it. */
  async setPassword(memberId: string, password: Password, kept: string): Promise<void> {
    const { verifier, createdAt } = password;
    await this.#orm.transaction(async (on) => {
      await on
        .insert(memberCredentials)
        .values({ ...password, memberId, kind: 'password' })
        .onDuplicateKeyUpdate({ set: { verifier, createdAt } });
      await on.delete(memberSessions).where(and(eq(memberSessions.memberId, memberId), ne(memberSessions.tokenHash, kept)));
      await on.delete(memberInvitations).where(eq(memberInvitations.memberId, memberId));
      await on
        .update(members)
        .set({ joinedAt: createdAt })
        .where(and(eq(members.id, memberId), isNull(members.joinedAt)));
    });
  }

  /** Opens an invitation, in place of an earlier one. */
  async openInvitation(memberId: string, tokenHash: string, expiresAt: Date): Promise<void> {
    await this.#orm
      .insert(memberInvitations)
      .values({ memberId, tokenHash, expiresAt })
      .onDuplicateKeyUpdate({ set: { tokenHash, expiresAt } });
  }

  /** The member of an invitation, with its end; also of one that has expired. */
  async invited(tokenHash: string): Promise<{ member: MemberRow; expiresAt: Date } | undefined> {
    const [row] = await this.#orm
      .select({ member: members, expiresAt: memberInvitations.expiresAt })
      .from(memberInvitations)
      .innerJoin(members, eq(members.id, memberInvitations.memberId))
      .where(eq(memberInvitations.tokenHash, tokenHash));
    return row;
  }

  /** Uses an invitation up, with name and password of the member; false when another call was faster. */
  async join(memberId: string, tokenHash: string, name: string, password: Password, at: Date): Promise<boolean> {
    return this.#orm.transaction(async (on) => {
      const [{ affectedRows }] = await on
        .delete(memberInvitations)
        .where(and(eq(memberInvitations.memberId, memberId), eq(memberInvitations.tokenHash, tokenHash)));
      if (affectedRows !== 1) return false;
      await on.update(members).set({ name, joinedAt: at }).where(eq(members.id, memberId));
      await on.insert(memberCredentials).values({ ...password, memberId, kind: 'password' });
      return true;
    });
  }

  /** Notes a new mail address that waits for confirmation, in place of an earlier one. */
  async openMailChange(memberId: string, tokenHash: string, email: string, expiresAt: Date): Promise<void> {
    await this.#orm
      .insert(memberMailChanges)
      .values({ memberId, tokenHash, email, expiresAt })
      .onDuplicateKeyUpdate({ set: { tokenHash, email, expiresAt } });
  }

  /**
   * Makes the change of mail address that a token confirms.
   * @returns the member with the former address, and the new one; undefined for a token that is not valid
   * @throws {Problem} already-exists
   */
  async confirmMail(tokenHash: string, now: Date): Promise<{ member: MemberRow; email: string } | undefined> {
    try {
      return await this.#orm.transaction(async (on) => {
        const [found] = await on
          .select({ member: members, email: memberMailChanges.email })
          .from(memberMailChanges)
          .innerJoin(members, eq(members.id, memberMailChanges.memberId))
          .where(and(eq(memberMailChanges.tokenHash, tokenHash), gt(memberMailChanges.expiresAt, now)))
          .for('update');
        if (!found) return undefined;
        await on.delete(memberMailChanges).where(eq(memberMailChanges.tokenHash, tokenHash));
        await on.update(members).set({ email: found.email }).where(eq(members.id, found.member.id));
        return found;
      });
    } catch (error) {
      if (isDuplicate(error)) throw new Problem('already-exists', 'Another member has this mail address now.');
      throw error;
    }
  }

  /** Adds a session; its member is seen with it. */
  async addSession(session: typeof memberSessions.$inferInsert): Promise<void> {
    await this.#orm.insert(memberSessions).values(session);
    await this.#orm.update(members).set({ lastSeenAt: session.createdAt }).where(eq(members.id, session.memberId));
  }

  sessionsOf(memberId: string, now: Date): Promise<SessionRow[]> {
    return this.#orm
      .select()
      .from(memberSessions)
      .where(and(eq(memberSessions.memberId, memberId), gt(memberSessions.expiresAt, now)))
      .orderBy(desc(memberSessions.createdAt));
  }

  async endSession(tokenHash: string): Promise<void> {
    await this.#orm.delete(memberSessions).where(eq(memberSessions.tokenHash, tokenHash));
  }

  /** @returns whether there was such a session of the member; `start` is the beginning of its hash */
  async endSessionOf(memberId: string, start: string): Promise<boolean> {
    const [{ affectedRows }] = await this.#orm
      .delete(memberSessions)
      .where(and(eq(memberSessions.memberId, memberId), like(memberSessions.tokenHash, `${start}%`)));
    return affectedRows > 0;
  }

  /** @returns how many ended */
  async endOtherSessions(memberId: string, kept: string): Promise<number> {
    const [{ affectedRows }] = await this.#orm
      .delete(memberSessions)
      .where(and(eq(memberSessions.memberId, memberId), ne(memberSessions.tokenHash, kept)));
    return affectedRows;
  }

  /** Environments of an app, or the one with a name. @throws {Problem} not-found */
  async environmentsOf(app: string, name: string | undefined): Promise<string[]> {
    const rows = await this.#orm
      .select({ id: environments.id })
      .from(environments)
      .where(and(eq(environments.app, app), name === undefined ? undefined : eq(environments.name, name)));
    if (rows.length === 0)
      throw new Problem('not-found', name === undefined ? `There is no app \`${app}\`.` : `There is no environment \`${app}/${name}\`.`);
    return rows.map(({ id }) => id);
  }

  /** Roles of all members, with the names of the environments. */
  roles(): Promise<RoleRow[]> {
    return this.#orm
      .select({
        memberId: memberRoles.memberId,
        environmentId: memberRoles.environmentId,
        app: environments.app,
        environment: environments.name,
        role: memberRoles.role,
      })
      .from(memberRoles)
      .innerJoin(environments, eq(environments.id, memberRoles.environmentId))
      .orderBy(environments.app, environments.createdAt);
  }

  /** Sets roles of a member by environment, all or none; null removes one. */
  async setRoles(memberId: string, roles: ReadonlyMap<string, Role | null>): Promise<void> {
    const ids = [...roles.keys()];
    if (ids.length === 0) return;
    const given = [...roles].flatMap(([environmentId, role]) => (role ? [{ memberId, environmentId, role }] : []));
    await this.#orm.transaction(async (on) => {
      await on.delete(memberRoles).where(and(eq(memberRoles.memberId, memberId), inArray(memberRoles.environmentId, ids)));
      if (given.length > 0) await on.insert(memberRoles).values(given);
    });
  }

  async heldRoles(memberId: string): Promise<Map<string, Role>> {
    const rows = await this.#orm.select().from(memberRoles).where(eq(memberRoles.memberId, memberId));
    return new Map(rows.map(({ environmentId, role }) => [environmentId, role as Role]));
  }

  /** The member who has this account at a provider, with what is kept of it. */
  async byProviderAccount(identifier: string): Promise<{ member: MemberRow; verifier: string } | null> {
    const [row] = await this.#orm
      .select({ member: members, verifier: memberCredentials.verifier })
      .from(memberCredentials)
      .innerJoin(members, eq(members.id, memberCredentials.memberId))
      .where(and(eq(memberCredentials.kind, 'provider'), eq(memberCredentials.identifier, identifier)));
    return row ?? null;
  }

  async keepProviderAccount(row: { id: string; memberId: string; identifier: string; verifier: string; createdAt: Date }): Promise<void> {
    await this.#orm
      .insert(memberCredentials)
      .values({ ...row, kind: 'provider' })
      .onDuplicateKeyUpdate({ set: { verifier: row.verifier } });
  }

  /** Somebody who was invited has signed in at a provider: the invitation is over. */
  async joinByProvider(id: string, at: Date): Promise<void> {
    await this.#orm.delete(memberInvitations).where(eq(memberInvitations.memberId, id));
    await this.#orm
      .update(members)
      .set({ joinedAt: at })
      .where(and(eq(members.id, id), isNull(members.joinedAt)));
  }
}
