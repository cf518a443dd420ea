/** Access rules: who may do what to which records of a collection. A rule is a filter over the record. */

export const RECORD_ACTIONS = ['read', 'create', 'update', 'delete'] as const;
export type RecordAction = (typeof RECORD_ACTIONS)[number];
/** CQL2 texts. */
export type AccessRules = Record<RecordAction, string>;

/** Named rules for common conditions, as CQL2 text (OGC 21-065r2). */
export const RULE_PRESETS = {
  everyone: 'TRUE',
  'signed-in': "me('id') IS NOT NULL",
  owner: "ownerId = me('id')",
  nobody: 'FALSE',
} as const;
export type RulePreset = keyof typeof RULE_PRESETS;

/** The rules of a new collection. */
export const OWNER_ONLY: AccessRules = {
  read: RULE_PRESETS.owner,
  create: RULE_PRESETS.owner,
  update: RULE_PRESETS.owner,
  delete: RULE_PRESETS.owner,
};

/** The name of a rule, where it has one. */
export function presetOf(rule: string): RulePreset | null {
  const found = Object.entries(RULE_PRESETS).find(([, text]) => text === rule);
  return found ? (found[0] as RulePreset) : null;
}
