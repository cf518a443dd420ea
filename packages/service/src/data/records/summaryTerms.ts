/** The terms of a summary: what it groups by, and what it measures. */
import { Problem } from '@orchard/contract';
import { nearest } from '@orchard/core';

const MAX_GROUPS_BY = 3;
const MAX_MEASURES = 20;
export const MEASURES = ['sum', 'avg', 'min', 'max', 'distinct'] as const;
export type Measure = { term: string; how: 'count' | (typeof MEASURES)[number]; name: string };
type Group = { term: string; name: string; step: string | undefined };

const invalid = (path: string, problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path, problem, expected }] });

const terms = (text: string | undefined) =>
  (text ?? '')
    .split(',')
    .map((term) => term.trim())
    .filter(Boolean);

/** `hut,createdAt:week`. @throws {Problem} invalid-input */
export function splitGroup(text: string | undefined): Group[] {
  const groups = terms(text);
  if (groups.length > MAX_GROUPS_BY)
    throw invalid('query.group', `A summary groups by ${groups.length} fields.`, `at most ${MAX_GROUPS_BY}`);
  return groups.map((term) => {
    const [name = '', step] = term.split(':');
    return { term, name, step };
  });
}

/** `count,sum:nights,distinct:guest`; the count alone by default. @throws {Problem} invalid-input */
export function readMeasure(text: string | undefined): Measure[] {
  const measures = terms(text);
  if (measures.length > MAX_MEASURES)
    throw invalid('query.measure', `A summary has at most ${MAX_MEASURES} measures.`, `up to ${MAX_MEASURES}`);
  return (measures.length > 0 ? measures : ['count']).map((term) => {
    if (term === 'count') return { term, how: 'count', name: '' };
    const [how = '', name = ''] = term.split(':');
    if (!(MEASURES as readonly string[]).includes(how) || !name)
      throw invalid(
        'query.measure',
        `\`${term}\` is not a measure${nearest(how, ['count', ...MEASURES]) || '.'}`,
        'count, or sum, avg, min, max or distinct with a field, such as sum:nights',
      );
    return { term, how: how as Measure['how'], name };
  });
}
