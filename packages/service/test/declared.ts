/** Holds every answer of a test against what its operation declares: the reply's schema, the status, the problems. */
import { type AnyOperation, Problem, problemsOf } from '@orchard/contract';
import type { Platform } from '../src/platform/platform.js';

const asSent = (body: unknown): unknown => (body === undefined ? undefined : JSON.parse(JSON.stringify(body)));

function driftOf(operation: AnyOperation, status: number, body: unknown): string | null {
  if (body instanceof Problem)
    return problemsOf(operation).includes(body.problem as never)
      ? null
      : `${operation.id} answers the problem ${body.problem}, which it does not declare`;
  if (status === 304 || operation.anyStatus) return null;
  if (![operation.status, operation.alsoStatus].includes(status as 200))
    return `${operation.id} answers ${status}, which it does not declare`;
  if (status === 204) return null;
  const sent = asSent(body);
  const read = operation.reply.safeParse(sent);
  if (!read.success)
    return `${operation.id} answers what its reply does not allow: ${read.error.issues.map(({ path, message }) => `${path.join('.')}: ${message}`).join('; ')}`;
  const kept = JSON.stringify(sortKeys(asSent(read.data)));
  return kept === JSON.stringify(sortKeys(sent))
    ? null
    : `${operation.id} answers members that its reply does not name: ${difference(sent, asSent(read.data))}`;
}

const sortKeys = (value: unknown): unknown =>
  Array.isArray(value)
    ? value.map(sortKeys)
    : value && typeof value === 'object'
      ? Object.fromEntries(
          Object.entries(value)
            .sort(([a], [b]) => (a < b ? -1 : 1))
            .map(([name, one]) => [name, sortKeys(one)]),
        )
      : value;

/** Where two values differ first. */
function difference(sent: unknown, kept: unknown, path = ''): string {
  if (sent && kept && typeof sent === 'object' && typeof kept === 'object')
    for (const name of Object.keys(sent)) {
      const [a, b] = [(sent as Record<string, unknown>)[name], (kept as Record<string, unknown>)[name]];
      if (JSON.stringify(sortKeys(a)) !== JSON.stringify(sortKeys(b))) return difference(a, b, `${path}.${name}`);
    }
  return path.slice(1);
}

/** Watches a service. @returns what drifted so far, each once */
export function watchDeclared({ ports }: Pick<Platform, 'ports'>): () => string[] {
  const found = new Set<string>();
  ports.inspectAnswer = ({ operation }, status, body) => {
    if (operation.stream || operation.replyTypes || operation.id === 'unknown') return;
    const drift = driftOf(operation, status, body);
    if (drift) found.add(drift);
  };
  return () => [...found];
}
