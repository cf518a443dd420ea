/** Where the roles of a user come from: given by hand, by groups at providers outside, or by a rule of the role. */
export type RoleOrigins = {
  hand: string[];
  /** By way to sign in. */
  ways: Record<string, string[]>;
  rule: string[];
};

/** @param roles of a user of whom no origins are kept: all were given by hand */
export const roleOrigins = (roles: readonly string[], kept: RoleOrigins | null): RoleOrigins =>
  kept ?? { hand: [...roles], ways: {}, rule: [] };

/** The roles that a user has, each once: those given by hand as they were entered, then the others. */
export const rolesOf = ({ hand, ways, rule }: RoleOrigins): string[] => [
  ...new Set([...hand, ...[...Object.values(ways).flat(), ...rule].sort()]),
];

/** Who enters the whole list of roles gives those by hand that nothing else gives. */
export function withHandRoles(origins: RoleOrigins, wanted: readonly string[]): RoleOrigins {
  const given = new Set(rolesOf({ ...origins, hand: [] }));
  return { ...origins, hand: wanted.filter((role) => origins.hand.includes(role) || !given.has(role)) };
}

/** What the groups of a way give now, in place of what they gave before. */
export function withWayRoles(origins: RoleOrigins, way: string, roles: readonly string[]): RoleOrigins {
  const { [way]: _before, ...others } = origins.ways;
  return { ...origins, ways: roles.length > 0 ? { ...others, [way]: [...new Set(roles)].sort() } : others };
}

/** The roles of a mapping that somebody's groups have. */
export const rolesOfGroups = (mapping: Readonly<Record<string, string>>, groups: readonly string[]): string[] =>
  groups.flatMap((group) => (Object.hasOwn(mapping, group) ? [mapping[group] as string] : []));

/** What rules give now, in place of what they gave before. */
export const withRuleRoles = (origins: RoleOrigins, roles: readonly string[]): RoleOrigins => ({ ...origins, rule: [...roles].sort() });
