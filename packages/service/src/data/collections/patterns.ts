/** Patterns of fields that were stored before matching took linear time. */
import { Problem } from '@orchard/contract';
import { isSlowPattern, patternProblem, type RecordCheck } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { LIMIT_MS } from './slowPatterns.js';

/**
 * Matches the texts that a check has left.
 * @throws {Problem} invalid-input
 */
export async function demandSlowPatterns(
  { slowPatterns }: Pick<Parts, 'slowPatterns'>,
  collection: string,
  check: RecordCheck,
): Promise<void> {
  for (const { path, pattern, text } of check.slowPatterns) {
    const matched = await slowPatterns.matches(pattern, text);
    if (matched) continue;
    const problem =
      matched === false
        ? patternProblem(collection, path, pattern, text)
        : {
            path,
            problem: `The pattern of \`${path}\` in \`${collection}\` took longer than ${LIMIT_MS} ms on this text, so the text was not stored.`,
            expected: 'a shorter text; the team can replace the pattern with one that matches in linear time',
          };
    throw new Problem('invalid-input', problem.problem, { fields: [{ ...problem, path: `body.${path}` }] });
  }
}

/** Sends the team one notice for each stored pattern that should be replaced. */
export async function tellSlowPatterns(parts: Parts, environment: Environment): Promise<void> {
  for (const { name, fields } of await parts.catalogue.all(environment)) {
    for (const [field, { pattern }] of fields) {
      if (pattern === undefined || !isSlowPattern(pattern)) continue;
      const place = `${environment.app}/${environment.name}`;
      await parts.notices.tell({
        kind: 'schema',
        environmentId: environment.id,
        once: `pattern ${environment.id} ${name} ${field} ${pattern}`.slice(0, 200),
        title: `Replace the pattern of \`${field}\` in \`${name}\``,
        body: `${pattern} needs look-around or back-references, which can be extremely slow on some texts. It is still matched, in a thread of its own and for at most ${LIMIT_MS} ms. Write one without them under Data, ${name}, Fields in ${place}.`,
        link: `/${place}/data/${name}?tab=fields`,
      });
    }
  }
}
