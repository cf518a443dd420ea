/** Conditions on the folders of files, in CQL2. */
import { type AccessRules, RECORD_ACTIONS, type RecordAction } from './access.js';
import { isCall, parseFilter, writeFilterJson } from './filter/index.js';

const quoted = (text: string): string => `'${text.replaceAll("'", "''")}'`;
/** The character that follows `/`: what begins with `a/` lies between `a/` and `a0`. */
const AFTER_SLASH = '0';

/** Files of a folder; `deep` with those of the folders below. Null where all files are meant. */
export function inFolder(folder: string, deep: boolean): string | null {
  if (!deep) return `folder = ${quoted(folder)}`;
  if (folder === '') return null;
  return `(folder = ${quoted(folder)} OR (folder >= ${quoted(`${folder}/`)} AND folder < ${quoted(`${folder}${AFTER_SLASH}`)}))`;
}

/**
 * A filter that demands another condition as well.
 * @param filter CQL2, as text or as JSON
 * @throws {FilterError}
 */
export function bothConditions(condition: string | null, filter: string | undefined): string | undefined {
  if (!condition || !filter) return condition ?? filter;
  // Read by itself first, so that no bracket of it closes one of ours.
  const demanded = parseFilter(filter);
  if (filter.trimStart().startsWith('{'))
    return JSON.stringify({ op: 'and', args: [demanded, parseFilter(condition)].map(writeFilterJson) });
  // In front, as it was written: a fault in it is told at the character where it stands.
  return `${isCall(demanded, 'or') ? `(${filter})` : filter} AND ${condition}`;
}

/**
 * The rules of all files as those of one collection. Each file names the folder whose rules hold for it, in `rulesFrom`.
 * @param areas folders that have rules of their own, the root among them
 */
export function composeFolderRules(areas: ReadonlyMap<string, AccessRules>): AccessRules {
  const composed = (action: RecordAction): string => {
    const parts = [...areas].filter(([, rules]) => rules[action].trim().toUpperCase() !== 'FALSE');
    return parts.map(([area, rules]) => `(rulesFrom = ${quoted(area)} AND (${rules[action]}))`).join(' OR ') || 'FALSE';
  };
  return Object.fromEntries(RECORD_ACTIONS.map((action) => [action, composed(action)])) as AccessRules;
}
