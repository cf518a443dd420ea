/** Which member somebody from a provider is, and the roles that the groups there give. */
import { Problem, type Role } from '@orchard/contract';
import { own } from '@orchard/core';
import { accountName, identifierOf, type OutsidePerson } from '../../people/providers/person.js';
import { Settings } from '../../platform/settings/settingStore.js';
import { createMember } from '../members/signIn.js';
import { type MemberRow, MemberStore } from '../members/store.js';
import type { Parts } from './parts.js';

export type GroupRoles = Record<string, { app: string; environment: string; role: Role }[]>;
/** By way. */
export const memberGroups = new Settings<{ groups: Record<string, GroupRoles> }>('member groups', () => ({ groups: {} }));

const RANK: Record<Role, number> = { viewer: 0, developer: 1, maintainer: 2, owner: 3 };
/** `given`: the roles that the groups gave last, by environment. */
type Verifier = { iss: string; sub: string; way: string; account: string; given: Record<string, Role> };

/**
 * The member that somebody from a provider is. An address counts only if the provider vouches for it; without an account,
 * a group lets its people join.
 * @throws {Problem} sign-in-refused
 */
export async function memberOf(parts: Parts, way: string, person: OutsidePerson): Promise<MemberRow> {
  const store = new MemberStore(parts.database);
  const known = await store.byProviderAccount(identifierOf(person));
  const before = known ? (JSON.parse(known.verifier) as Verifier) : null;
  const given = await rolesBy(parts, way, person.groups);
  const member = known?.member ?? (await newcomer(parts, store, person, given));
  const roles = new Map<string, Role | null>(Object.keys(before?.given ?? {}).map((id) => [id, null]));
  for (const [id, role] of Object.entries(given)) roles.set(id, role);
  await store.setRoles(member.id, await withoutLoss(store, member.id, roles, before?.given ?? {}));
  const verifier: Verifier = { iss: person.issuer, sub: person.subject, way, account: accountName(person), given };
  await store.keepProviderAccount({
    id: parts.newId(),
    memberId: member.id,
    identifier: identifierOf(person),
    verifier: JSON.stringify(verifier),
    createdAt: new Date(parts.now()),
  });
  await store.joinByProvider(member.id, new Date(parts.now()));
  parts.actors.forget();
  return member;
}

/** The highest role in each environment that the groups give. */
async function rolesBy(parts: Parts, way: string, groups: readonly string[]): Promise<Record<string, Role>> {
  const { groups: all } = await memberGroups.read(parts.directory.installation());
  const given: Record<string, Role> = {};
  for (const { app, environment, role } of groups.flatMap((group) => own(own(all, way) ?? {}, group) ?? [])) {
    const found = await parts.directory.environment(app, environment).catch(() => null);
    const before = found && given[found.id];
    if (found && (!before || RANK[role] > RANK[before])) given[found.id] = role;
  }
  return given;
}

/** What was given by hand stays, where it is more than the groups give. */
async function withoutLoss(store: MemberStore, memberId: string, wanted: ReadonlyMap<string, Role | null>, before: Record<string, Role>) {
  const held = await store.heldRoles(memberId);
  return new Map(
    [...wanted].filter(([id, role]) => {
      const byHand = held.get(id) && held.get(id) !== before[id];
      return !byHand || (role !== null && RANK[role] > RANK[held.get(id) as Role]);
    }),
  );
}

async function newcomer(parts: Parts, store: MemberStore, person: OutsidePerson, given: Record<string, Role>): Promise<MemberRow> {
  const refused = new Problem(
    'sign-in-refused',
    'You are not a member here, and none of your groups is let in. Ask an owner to invite you, or to let your group in.',
  );
  if (!person.emailProved || !person.email) throw refused;
  const invited = await store.findByEmail(person.email);
  if (invited) return invited;
  if (Object.keys(given).length === 0) throw refused;
  const row = { email: person.email, name: person.name ?? (person.email.split('@')[0] as string), password: null, owner: false };
  return createMember(parts, row);
}
