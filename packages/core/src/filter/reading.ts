/** Filters without the parser of their text: for an app, where every kilobyte counts. */
export { analyseFilter } from './analyse.js';
export type { Condition, FilterScope, ValueKind } from './condition.js';
export { flatScope } from './condition.js';
export { type Asking, compileEvaluator, type Evaluator, type Related } from './evaluate.js';
export { compareText } from './folding.js';
export { readFilterText } from './smallReader.js';
export { FilterError, isCall, type Node } from './tree.js';
