/** Which clients call for what, by the recorded calls. */
import type { Use } from '@orchard/contract';
import { and, count, eq, gte, isNotNull, like, max, or, sql } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { requestTable } from './tables.js';

/** Routes by what their target is. */
const ROUTES = {
  collection: ['/app/v1/data/', '/app/v1/queries/', '/app/v1/summaries/', '/app/v1/live/', '/app/v1/history/'],
  function: ['/app/v1/endpoints/'],
  upstream: ['/app/v1/upstreams/'],
} as const;
const MOST = 500;

export async function usesOfCalls({ db }: Environment, since: Date): Promise<Use[]> {
  const table = db.table(requestTable);
  const kind = sql<
    Use['to']['kind']
  >`CASE WHEN ${like(table.route, `${ROUTES.function[0]}%`)} THEN 'function' WHEN ${like(table.route, `${ROUTES.upstream[0]}%`)} THEN 'upstream' ELSE 'collection' END`;
  const rows = await db.orm
    .select({
      client: table.client,
      version: table.version,
      kind,
      target: table.target,
      calls: sql<number>`SUM(${table.keptOf})`,
      kept: count(),
      lastAt: max(table.at),
    })
    .from(table)
    .where(
      and(
        gte(table.at, since),
        eq(table.direction, 'in'),
        isNotNull(table.client),
        isNotNull(table.target),
        or(
          ...Object.values(ROUTES)
            .flat()
            .map((route) => like(table.route, `${route}%`)),
        ),
      ),
    )
    .groupBy(table.client, table.version, kind, table.target)
    .limit(MOST);
  return rows.map(({ client, version, kind: of, target, calls, lastAt }) => ({
    from: { kind: 'client' as const, name: client as string, version },
    to: { kind: of, name: target as string },
    count: Number(calls),
    lastAt: (lastAt as Date).toISOString(),
  }));
}
