/** Whether a condition, or a term, depends on the record; the others are decided before a statement runs. */
import { type Condition, type Term, visitTerms } from './condition.js';

const isOfRecord = ({ is }: Term): boolean => is === 'field' || is === 'inside' || is === 'called' || is === 'relevance';

/** `asking`: whether it depends on the caller or the time. */
export function dependenciesOf(condition: Condition): { record: boolean; asking: boolean } {
  const seen = { record: false, asking: condition.is === 'sharesRoles' };
  visitTerms(condition, (term) => {
    if (isOfRecord(term)) seen.record = true;
    if (term.is === 'me' || term.is === 'myRoles' || term.is === 'myField' || term.is === 'now') seen.asking = true;
  });
  return seen;
}

export const readsRecord = (condition: Condition): boolean => dependenciesOf(condition).record;

export function termReadsRecord(term: Term): boolean {
  if (term.is === 'arithmetic') return termReadsRecord(term.left) || termReadsRecord(term.right);
  if (term.is === 'distance') return termReadsRecord(term.from) || termReadsRecord(term.to);
  if (term.is === 'folded' || term.is === 'midnight') return termReadsRecord(term.of);
  return isOfRecord(term);
}
