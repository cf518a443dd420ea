/** One question to the databases of many environments, in a few statements instead of one for each. */
import { grouped } from '@orchard/core';
import type { Database } from './connection.js';
import type { EnvironmentDatabase } from './environmentDatabase.js';

/** MariaDB plans each part by itself: more in one statement would not be faster, and would hold more tables open. */
const AT_ONCE = 50;

type Answer = { number: number; value: unknown };

/**
 * @param valueSql SQL for one value of an environment, with the same parameters for each
 * @returns the values by environment, without those that cannot be asked: their database is gone, or is of an earlier version
 */
export async function askEach<T, E extends { db: EnvironmentDatabase }>(
  environments: readonly E[],
  valueSql: (db: EnvironmentDatabase) => string,
  values: unknown[] = [],
): Promise<Map<E, T>> {
  const answers = new Map<E, T>();
  const ask = async (server: Database, some: readonly E[]): Promise<void> => {
    const sql = some.map(({ db }, i) => `SELECT ${i} AS number, (${valueSql(db)}) AS value`).join(' UNION ALL ');
    const rows = await server.runRows<Answer>(
      sql,
      some.flatMap(() => values),
    );
    for (const { number, value } of rows) answers.set(some[Number(number)] as E, value as T);
  };
  for (const [server, on] of grouped(environments, ({ db }) => db.server))
    for (let from = 0; from < on.length; from += AT_ONCE) {
      const some = on.slice(from, from + AT_ONCE);
      // One that cannot be asked fails the statement for all of them.
      await ask(server, some).catch(() => Promise.all(some.map((one) => ask(server, [one]).catch(() => undefined))));
    }
  return answers;
}
