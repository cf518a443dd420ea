/** Filters: conditions in CQL2 (OGC 21-065r2), the one language for every condition in the product. */
import { isPlainObject, type Json } from '../json.js';
import { analyseFilter } from './analyse.js';
import type { Condition, FilterScope } from './condition.js';
import { parseFilterJson } from './json.js';
import { parseFilterText } from './text.js';
import { FilterError, type Node } from './tree.js';

/** Reads a filter in either encoding: a text that begins with `{` is CQL2 JSON. @throws {FilterError} */
export function parseFilter(source: string | Json): Node {
  if (typeof source !== 'string') return parseFilterJson(source);
  if (!source.trimStart().startsWith('{')) return parseFilterText(source);
  let value: Json;
  try {
    value = JSON.parse(source);
  } catch (error) {
    throw new FilterError('$', `The filter begins like CQL2 JSON, but is not JSON: ${(error as Error).message}`);
  }
  if (!isPlainObject(value)) throw new FilterError('$', 'Expected an object');
  return parseFilterJson(value);
}

/** Reads and checks a filter. @throws {FilterError} */
export const readFilter = (source: string | Json, scope: FilterScope): Condition => analyseFilter(parseFilter(source), scope);

export { analyseFilter, analyseTerm } from './analyse.js';
export * from './condition.js';
export { type Asking, compileEvaluator, type Evaluator, type Related, type Truth } from './evaluate.js';
export { explainFilter, type Explained } from './explain.js';
export { compareText } from './folding.js';
export { type Box, boxesAround, distanceM, type Position } from './geometry.js';
export { writeFilterJson } from './json.js';
export { nearest } from './nearest.js';
export { writeFilterText } from './print.js';
export { type Excerpt, excerptOf, SEARCHED_LENGTH, type SearchWords } from './search.js';
export { bindSlots, compileSql, compileTermSql, INDEXED_TEXT, insideSql, type Slot, type Sql, type SqlNames } from './sql.js';
export { type OutsideDialect, OutsideLimit, OutsideSql } from './outsideSql.js';
export { splitTerms } from './text.js';
export { FilterError, isCall, LIMITS as FILTER_LIMITS, type Node as FilterNode } from './tree.js';
