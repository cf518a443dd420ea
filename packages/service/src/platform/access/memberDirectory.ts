/** Members and automation tokens: who stands behind a session, and which roles they have. Nothing is cached. */
import { ROLES, type Role } from '@orchard/contract';
import { KEY_PREFIXES } from '@orchard/core';
import { and, eq, isNotNull, or, sql } from 'drizzle-orm';
import type { SignedInMember } from '../call.js';
import type { Database } from '../database/connection.js';
import { hashKey } from './secrets.js';
import {
  apps,
  automationTokenRoles,
  automationTokens,
  environments,
  memberFactors,
  memberRoles,
  memberSessions,
  members,
} from './systemTables.js';

/** How often it is noted that a member was seen: two statements, so not at every call. */
const SEEN_EVERY_MS = 60_000;

const HAS_FACTOR = sql<number>`EXISTS (SELECT 1 FROM ${memberFactors} WHERE ${memberFactors.ownerId} = ${members.id} AND ${memberFactors.confirmedAt} IS NOT NULL)`;

export class MemberDirectory {
  constructor(private readonly database: Database) {}

  /**
   * The member of a session token, or who stands behind an automation token; null when there is no such session or token
   * any more.
   * @param address where the call comes from
   */
  async memberOf(token: string, now: number, address: string | null): Promise<SignedInMember | null> {
    const tokenHash = hashKey(token);
    if (token.startsWith(`${KEY_PREFIXES.automation}-`)) return this.#automationOf(tokenHash, new Date(now), address);
    const [row] = await this.database.orm
      .select({ session: memberSessions, member: members, secondFactor: HAS_FACTOR })
      .from(memberSessions)
      .innerJoin(members, eq(members.id, memberSessions.memberId))
      .where(eq(memberSessions.tokenHash, tokenHash));
    if (!row || row.session.expiresAt.getTime() <= now) return null;
    if (now - (row.session.lastSeenAt?.getTime() ?? 0) > SEEN_EVERY_MS) await this.#noteSeen(tokenHash, row.member.id, new Date(now));
    const { id, email, name, owner } = row.member;
    const confirmedAt = row.session.confirmedAt?.getTime() ?? 0;
    const secondFactor = Boolean(row.secondFactor);
    return { id, email, name, owner, via: row.session.kind as SignedInMember['via'], tokenHash, confirmedAt, secondFactor };
  }

  /** A member as the service knows them when they are not there; null for one who left or has not joined yet. */
  async memberById(memberId: string): Promise<SignedInMember | null> {
    const [row] = await this.database.orm
      .select({ member: members, secondFactor: HAS_FACTOR })
      .from(members)
      .where(and(eq(members.id, memberId), isNotNull(members.joinedAt)));
    if (!row) return null;
    const { id, email, name, owner } = row.member;
    return { id, email, name, owner, via: 'cookie', tokenHash: '', confirmedAt: 0, secondFactor: Boolean(row.secondFactor) };
  }

  /** An automation token acts under its own name, with its own roles. */
  async #automationOf(tokenHash: string, now: Date, address: string | null): Promise<SignedInMember | null> {
    const [row] = await this.database.orm.select().from(automationTokens).where(eq(automationTokens.hash, tokenHash));
    if (!row || row.revokedAt || row.expiresAt <= now) return null;
    if (now.getTime() - (row.lastUsedAt?.getTime() ?? 0) > SEEN_EVERY_MS)
      await this.database.orm
        .update(automationTokens)
        .set({ lastUsedAt: now, lastUsedFrom: address })
        .where(eq(automationTokens.id, row.id));
    return {
      id: row.id,
      email: '',
      name: row.name,
      owner: false,
      via: 'automation',
      tokenHash,
      confirmedAt: now.getTime(),
      secondFactor: true,
    };
  }

  async #noteSeen(tokenHash: string, memberId: string, lastSeenAt: Date): Promise<void> {
    await this.database.orm.update(memberSessions).set({ lastSeenAt }).where(eq(memberSessions.tokenHash, tokenHash));
    await this.database.orm.update(members).set({ lastSeenAt }).where(eq(members.id, memberId));
  }

  /** The role of a member or token in an environment; the owner of the installation is owner everywhere. */
  async roleIn(member: SignedInMember, environmentId: string): Promise<Role | null> {
    if (member.owner) return 'owner';
    const [row] =
      member.via === 'automation'
        ? await this.database.orm
            .select()
            .from(automationTokenRoles)
            .where(and(eq(automationTokenRoles.tokenId, member.id), eq(automationTokenRoles.environmentId, environmentId)))
        : await this.database.orm
            .select()
            .from(memberRoles)
            .where(and(eq(memberRoles.memberId, member.id), eq(memberRoles.environmentId, environmentId)));
    return (row?.role as Role | undefined) ?? null;
  }

  /** Members with a role in an environment; owners of the installation are owners everywhere. */
  async withRoleIn(environmentId: string): Promise<{ id: string; name: string; role: Role }[]> {
    const rows = await this.database.orm
      .select({ id: members.id, name: members.name, owner: members.owner, role: memberRoles.role })
      .from(members)
      .leftJoin(memberRoles, and(eq(memberRoles.memberId, members.id), eq(memberRoles.environmentId, environmentId)))
      .where(or(eq(members.owner, true), isNotNull(memberRoles.role)));
    return rows.map(({ id, name, owner, role }) => ({ id, name, role: owner ? 'owner' : (role as Role) }));
  }

  /** What a member or token may do in each environment, by id, as {@link heldRole} says. */
  async rolesOf(member: SignedInMember): Promise<Map<string, Role>> {
    const rows = await this.database.orm
      .select({ id: environments.id, demands: apps.secondFactor })
      .from(environments)
      .innerJoin(apps, eq(apps.name, environments.app));
    const given = member.owner ? new Map(rows.map(({ id }) => [id, 'owner' as const])) : await this.givenRoles(member);
    return new Map(
      rows.flatMap(({ id, demands }) => {
        const role = given.get(id);
        return role ? [[id, heldRole(role, demands, member)] as const] : [];
      }),
    );
  }

  /** The roles given to a member or token, by environment; an owner of the installation needs none. */
  async givenRoles(member: SignedInMember): Promise<Map<string, Role>> {
    const { orm } = this.database;
    const rows =
      member.via === 'automation'
        ? await orm.select().from(automationTokenRoles).where(eq(automationTokenRoles.tokenId, member.id))
        : await orm.select().from(memberRoles).where(eq(memberRoles.memberId, member.id));
    return new Map(rows.map(({ environmentId, role }) => [environmentId, role as Role]));
  }
}

/**
 * What a role amounts to: where an app demands a second factor for maintainers and owners, a member without one has the
 * rights of a developer.
 */
export function heldRole(role: Role, demandsSecondFactor: boolean, { secondFactor }: Pick<SignedInMember, 'secondFactor'>): Role {
  return demandsSecondFactor && !secondFactor && roleReaches(role, 'maintainer') ? 'developer' : role;
}

/** Why a member has fewer rights than the role they were given. */
export const heldBackWords = (given: Role, app: string): string =>
  `You have the role ${given}, but ${app} gives its rights only with a second factor: add one under Account.`;

/** Whether `role` is at least `least`. */
export const roleReaches = (role: Role, least: Role): boolean => ROLES.indexOf(role) >= ROLES.indexOf(least);
