import { operations, Problem, type UserRole } from '@orchard/contract';
import { own as ownMember } from '@orchard/core';
import { bind, type Environment, environmentOf, type Route } from '../../platform/call.js';
import { guarded } from '../../platform/upkeep.js';
import type { Parts } from './parts.js';
import { demandRule, giveAllRuleRoles, originsOf, type RoleSettings, userRoles } from './roles.js';
import type { UserStore } from './store.js';

export function roleRoutes(parts: Parts, store: UserStore): Route[] {
  const own = operations.userRoles;
  const list = async (environment: Environment): Promise<UserRole[]> => {
    const [{ roles }, counts, groups] = await Promise.all([
      userRoles.read(environment),
      store.roleCounts(environment),
      parts.ports.roleGroups(environment),
    ]);
    const names = [...new Set([...Object.keys(roles), ...counts.keys(), ...groups.map(({ role }) => role)])].sort();
    return names.map((name) => ({
      name,
      ...(ownMember(roles, name) ?? { description: '', rule: null }),
      users: counts.get(name) ?? 0,
      groups: groups.filter(({ role }) => role === name).map(({ way, group }) => ({ way, group })),
      isDefined: Object.hasOwn(roles, name),
    }));
  };
  const named = async (environment: Environment, name: string) => (await list(environment)).find((role) => role.name === name) ?? null;
  const write = async (environment: Environment, how: (roles: Record<string, RoleSettings>) => Record<string, RoleSettings>) => {
    userRoles.forget(environment);
    const { roles } = await userRoles.read(environment);
    await userRoles.write(environment, { roles: how(roles) }, new Date(parts.now()));
    // A large environment takes a while; nobody waits for it.
    void guarded(parts, 'give roles by rule', { environment: environment.id }, async () => {
      await giveAllRuleRoles(store, environment, parts.now());
      parts.userTokens.forgetAll(environment);
    });
  };
  const audited = {
    read: (call: { environment: Environment | null; params: { role: string } }) => named(environmentOf(call), call.params.role),
  };
  return [
    bind(own.list, async (call) => ({ body: { items: await list(environmentOf(call)) } })),
    bind(
      own.put,
      async (call) => {
        const environment = environmentOf(call);
        const { role } = call.params;
        const rule = call.body.rule?.trim() || null;
        if (rule !== null) await demandRule(environment, rule);
        await write(environment, (roles) => ({ ...roles, [role]: { description: call.body.description, rule } }));
        return { body: (await named(environment, role)) as UserRole };
      },
      audited,
    ),
    bind(
      own.remove,
      async (call) => {
        const environment = environmentOf(call);
        const { role } = call.params;
        if (!Object.hasOwn((await userRoles.read(environment)).roles, role))
          throw new Problem('not-found', `The role \`${role}\` is not defined here.`);
        await write(environment, ({ [role]: _gone, ...roles }) => roles);
        return { body: undefined };
      },
      audited,
    ),
    bind(own.ofUser, async (call) => ({ body: originsOf(await store.named(environmentOf(call), call.params.user)) })),
  ];
}
