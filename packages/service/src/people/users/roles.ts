/** Roles of users by rule: worked out when somebody signs in or changes, when a rule changes, and once an hour for the rest. */
import { Problem } from '@orchard/contract';
import { compileEvaluator, type Evaluator, flatScope, FilterError, type JsonObject, readFilter, type ValueKind } from '@orchard/core';
import { type RoleOrigins, roleOrigins, rolesOf, type UserFields, userFieldKinds, withRuleRoles } from '@orchard/core/accounts';
import type { Environment } from '../../platform/call.js';
import { readingFilter } from '../../platform/database/listing.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { Settings } from '../../platform/settings/settingStore.js';
import { fieldsIn } from './fields.js';
import type { UserRow, UserStore } from './store.js';

export type RoleSettings = { description: string; rule: string | null };
export const userRoles = new Settings<{ roles: Record<string, RoleSettings> }>('user roles', () => ({ roles: {} }));

const OF_ACCOUNT: [name: string, kind: ValueKind][] = [
  ['email', 'text'],
  ['createdAt', 'time'],
  ['lastSeenAt', 'time'],
];
/** Where a user's roles come from. */
export const originsOf = ({ roles, roleOrigins: kept }: Pick<UserRow, 'roles' | 'roleOrigins'>): RoleOrigins =>
  roleOrigins(storedJson(roles) as string[], kept && (storedJson(kept) as RoleOrigins));

const PAGE = 1000;
const NOBODY = { id: null, roles: [] };

/** Fields that users change themselves would let them give themselves roles. */
function scopeOf(fields: UserFields) {
  const safe = Object.entries(fields).filter(([, { changedBy }]) => changedBy === 'servers');
  return flatScope(new Map([...userFieldKinds(Object.fromEntries(safe)), ...OF_ACCOUNT]));
}

/** @throws {Problem} malformed-filter, invalid-input */
export async function demandRule(environment: Environment, rule: string): Promise<void> {
  const fields = await fieldsIn(environment);
  try {
    readingFilter(() => readFilter(rule, scopeOf(fields)));
  } catch (error) {
    const own = Object.keys(fields).find((name) => fields[name]?.changedBy === 'user' && new RegExp(`\\b${name}\\b`).test(rule));
    if (!(error instanceof Problem) || !own) throw error;
    const why = `Users change \`${own}\` themselves, so it cannot give roles: let only servers change it.`;
    throw new Problem('malformed-filter', `${error.detail} ${why}`, error.extras);
  }
}

/** What a rule sees of somebody. An address counts once it is confirmed: anybody can claim another's. */
function recordOf(user: UserRow): JsonObject {
  return {
    ...(storedJson(user.data) as JsonObject),
    email: user.emailConfirmedAt ? user.email : null,
    createdAt: user.createdAt.toISOString(),
    lastSeenAt: user.lastSeenAt?.toISOString() ?? null,
  };
}

/** The rules of an environment, ready to be asked. One that does not fit the fields any more gives nothing. */
async function rulesIn(environment: Environment): Promise<[role: string, fits: Evaluator][]> {
  const { roles } = await userRoles.read(environment);
  const scope = scopeOf(await fieldsIn(environment));
  return Object.entries(roles).flatMap(([role, { rule }]): [string, Evaluator][] => {
    if (rule === null) return [];
    try {
      return [[role, compileEvaluator(readFilter(rule, scope))]];
    } catch (error) {
      if (error instanceof FilterError) return [];
      throw error;
    }
  });
}

/** The changes that rules make to a user's roles; null for none. */
function changesBy(
  rules: readonly [role: string, fits: Evaluator][],
  user: UserRow,
  now: number,
): Pick<UserRow, 'roles' | 'roleOrigins'> | null {
  const before = originsOf(user);
  const record = recordOf(user);
  const given = rules.filter(([, fits]) => fits(record, { me: NOBODY, now }) === true).map(([role]) => role);
  if (given.length === before.rule.length && given.every((role) => before.rule.includes(role))) return null;
  const after = withRuleRoles(before, given);
  return { roles: rolesOf(after), roleOrigins: after };
}

/** Gives somebody the roles that rules give now. @returns the user as they are then, and whether anything changed */
export async function giveRuleRoles(store: UserStore, environment: Environment, user: UserRow, now: number): Promise<UserRow> {
  const changes = changesBy(await rulesIn(environment), user, now);
  if (!changes) return user;
  await store.update(environment, user.id, changes);
  return { ...user, ...changes };
}

/** The same for all users of an environment, a page at a time. */
export async function giveAllRuleRoles(store: UserStore, environment: Environment, now: number): Promise<void> {
  const rules = await rulesIn(environment);
  const isUnused = rules.length === 0 && !(await store.anyRoleByRule(environment));
  if (isUnused) return;
  for (let after = ''; ; ) {
    const users = await store.after(environment, after, PAGE);
    for (const user of users) {
      const changes = changesBy(rules, user, now);
      if (changes) await store.update(environment, user.id, changes);
    }
    if (users.length < PAGE) return;
    after = users.at(-1)?.id ?? '';
  }
}
