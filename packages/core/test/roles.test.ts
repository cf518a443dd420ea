/** Where roles come from: whatever one origin gives and takes, the others stay as they are. */
import fc from 'fast-check';
import { expect, it } from 'vitest';
import { type RoleOrigins, rolesOf, rolesOfGroups, withHandRoles, withRuleRoles, withWayRoles } from '../src/accounts/index.js';

const roles = fc.uniqueArray(fc.constantFrom('warden', 'guide', 'walker', 'member'));
const origins: fc.Arbitrary<RoleOrigins> = fc.record({
  hand: roles,
  ways: fc.dictionary(fc.constantFrom('ridge', 'club'), roles, { noNullPrototype: true }),
  rule: roles,
});
const sorted = (list: readonly string[]) => [...list].sort();

it('an entered list is what a user has then, together with what rules and groups give', () => {
  fc.assert(
    fc.property(origins, roles, (of, wanted) => {
      const after = withHandRoles(of, wanted);
      const given = new Set([...Object.values(of.ways).flat(), ...of.rule]);
      expect(sorted(rolesOf(after))).toEqual(sorted([...new Set([...wanted, ...given])]));
      expect([after.ways, after.rule]).toEqual([of.ways, of.rule]);
    }),
  );
});

it('entering the list as it is shown changes nothing of it', () => {
  fc.assert(
    fc.property(origins, (of) => {
      expect(sorted(rolesOf(withHandRoles(of, rolesOf(of))))).toEqual(sorted(rolesOf(of)));
    }),
  );
});

it('what a way or a rule gave goes with it, and nothing else does', () => {
  fc.assert(
    fc.property(origins, roles, (of, given) => {
      const bare = { ...of, ways: { ...of.ways, ridge: [] }, rule: [] };
      const full = withRuleRoles(withWayRoles(of, 'ridge', given), given);
      expect(sorted(rolesOf(withRuleRoles(withWayRoles(full, 'ridge', []), [])))).toEqual(sorted(rolesOf(bare)));
      for (const role of given) expect(rolesOf(full)).toContain(role);
    }),
  );
});

it('groups give roles by their exact names', () => {
  expect(rolesOfGroups({ wardens: 'warden', staff: 'member' }, ['staff', 'Wardens', 'constructor', 'toString'])).toEqual(['member']);
});
