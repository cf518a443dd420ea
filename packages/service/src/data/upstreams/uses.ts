/** Who uses what: from calls of apps and runs of functions, as they were recorded. */
import { type Use, Problem } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';

const KINDS = ['collection', 'function', 'upstream'] as const;
type Kind = (typeof KINDS)[number];

/** `upstream:weather` @throws {Problem} invalid-input */
function readOf(of: string | undefined): { kind: Kind; name: string } | null {
  if (!of) return null;
  const [kind, name] = of.split(':') as [Kind, string?];
  if (name && KINDS.includes(kind)) return { kind, name };
  const problem = `${of} names nothing that is used.`;
  throw new Problem('invalid-input', problem, {
    fields: [{ path: 'query.of', problem, expected: `one of ${KINDS.join(', ')}, a colon, and its name` }],
  });
}

/** Uses since a time, most used first. @param of what is used; all, if left out */
export async function usesSince(parts: Parts, environment: Environment, since: Date, of: string | undefined): Promise<Use[]> {
  const wanted = readOf(of);
  const found = [...(await parts.ports.usesOfCalls(environment, since)), ...(await parts.functionPorts.uses(environment, since))];
  return found
    .filter(({ to }) => !wanted || (to.kind === wanted.kind && to.name === wanted.name))
    .sort((a, b) => b.count - a.count || (a.from.name < b.from.name ? -1 : 1));
}
