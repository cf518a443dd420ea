/** Says which part of a filter decided. */
import type { JsonObject } from '../json.js';
import { analyseFilter } from './analyse.js';
import type { FilterScope } from './condition.js';
import { type Asking, compileEvaluator, type Related, type Truth } from './evaluate.js';
import { writeFilterText } from './print.js';
import { isCall, type Node } from './tree.js';

/** A part of a filter with its result; `decided` marks the parts that determined the result of the whole. */
export type Explained = { text: string; result: Truth; decided: boolean; parts?: Explained[] };

/** Evaluates each part of a filter on its own. */
export function explainFilter(tree: Node, scope: FilterScope, record: JsonObject, asking: Asking, related?: Related): Explained {
  const explain = (node: Node, decided: boolean): Explained => {
    const result = compileEvaluator(analyseFilter(node, scope))(record, asking, related);
    const text = writeFilterText(node);
    // `IS NOT NULL` and `NOT LIKE` read as one.
    const isLeaf = !isCall(node, 'and', 'or', 'not') || (node.op === 'not' && !isCall(node.args[0] as Node, 'and', 'or', 'not'));
    if (isLeaf) return { text, result, decided };
    const parts = node.args.map((arg) => explain(arg, false));
    for (const part of parts) if (decided && (node.op === 'not' || part.result === result)) mark(part);
    return { text, result, decided, parts };
  };
  return explain(tree, true);
}

function mark(explained: Explained): void {
  explained.decided = true;
  const negated = explained.parts?.length === 1;
  for (const part of explained.parts ?? []) if (negated || part.result === explained.result) mark(part);
}
