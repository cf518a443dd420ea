/** Access rules: who may do what to which records of a collection. */

export const RECORD_ACTIONS = ['read', 'create', 'update', 'delete'] as const;
export type RecordAction = (typeof RECORD_ACTIONS)[number];

/** The rules in use, as CQL2 texts (OGC 21-065r2), each with a name for people. */
export const ACCESS_RULES = {
  TRUE: 'everyone',
  "me('id') IS NOT NULL": 'every signed-in user',
  "ownerId = me('id')": 'the owner of the record',
  FALSE: 'nobody',
} as const;
export type AccessRule = keyof typeof ACCESS_RULES;
export type AccessRules = Record<RecordAction, AccessRule>;

/** What a collection starts with when it is made by hand or by a first write. */
export const OWNER_ONLY: AccessRules = {
  read: "ownerId = me('id')",
  create: "ownerId = me('id')",
  update: "ownerId = me('id')",
  delete: "ownerId = me('id')",
};

/** Reads a rule text, forgiving spaces and the case of keywords; null when it is none of the rules in use. */
export function readAccessRule(text: string): AccessRule | null {
  const plain = text
    .trim()
    .replace(/\s+/g, ' ')
    .replace(/\s*=\s*/g, ' = ')
    .replace(/\(\s+/g, '(')
    .replace(/\s+\)/g, ')');
  const rules = Object.keys(ACCESS_RULES) as AccessRule[];
  return rules.find((rule) => rule === plain || keywordsUpper(plain) === rule) ?? null;
}

/** CQL2 keywords are case-insensitive; names and texts in quotes are not. */
const keywordsUpper = (text: string) => text.replace(/\b(true|false|is|not|null)\b/gi, (word) => word.toUpperCase());

/** Who asks: a user's id, or null for a caller who is not signed in. */
export type Asker = { userId: string | null };
export type Decision = { allowed: true } | { allowed: false; why: string };

/** Decides a rule for one record; `ownerId` is the record's owner, or the one it would get. */
export function decide(rule: AccessRule, asker: Asker, ownerId: string | null): Decision {
  switch (rule) {
    case 'TRUE':
      return { allowed: true };
    case 'FALSE':
      return { allowed: false, why: 'the rule is FALSE: nobody may, except with a server key' };
    case "me('id') IS NOT NULL":
      return asker.userId ? { allowed: true } : { allowed: false, why: 'the rule asks for a signed-in user, and nobody is signed in' };
    case "ownerId = me('id')":
      if (!asker.userId) return { allowed: false, why: 'the rule asks for the owner of the record, and nobody is signed in' };
      return asker.userId === ownerId ? { allowed: true } : { allowed: false, why: 'the record belongs to somebody else' };
  }
}
