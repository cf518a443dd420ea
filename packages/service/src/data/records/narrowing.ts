import type { Call, Environment } from '../../platform/call.js';
import { environmentOf } from '../../platform/call.js';
import { authorOf } from './author.js';
import type { Parts } from './parts.js';

/** A call about one collection. */
export type CollectionCall = Pick<Call, 'environment' | 'holder' | 'user' | 'member' | 'spans' | 'startedNs'> & {
  params: { collection: string };
};

/** What the call reads, by what functions of the team demand of it: a stricter environment, and perhaps another order and length. */
export async function narrowed<R extends { filter?: string | undefined; sort?: string | undefined; limit?: number | undefined }>(
  parts: Parts,
  call: CollectionCall,
  action: 'read' | 'list',
  query: R & { include?: string | undefined; group?: string | undefined },
  id?: string,
): Promise<{ environment: Environment; query: R }> {
  const environment = environmentOf(call);
  const others = Boolean(query.include || [query.filter, query.sort, query.group].some((text) => text?.includes('.')));
  const asked = { collection: call.params.collection, action, query, others, ...(id ? { id } : {}) };
  const found = await parts.recordPorts.hooks.narrow(environment, authorOf(call), asked);
  if (!found) return { environment, query };
  const { rules, sort, limit } = found;
  return {
    environment: Object.keys(rules).length > 0 ? { ...environment, narrowing: rules } : environment,
    query: { ...query, ...(sort === undefined ? {} : { sort }), ...(limit === undefined ? {} : { limit }) },
  };
}
