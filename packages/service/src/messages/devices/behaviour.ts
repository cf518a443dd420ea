/** Filters of devices by what the people who use them did. */
import { callsOf, flatScope, readFilter } from '@orchard/core';
import { behaviourOf, TIMES } from '@orchard/core/insight';
import type { Environment } from '../../platform/call.js';
import { kindsOf, type ListFunctions, readingFilter } from '../../platform/database/listing.js';
import type { Platform } from '../../platform/platform.js';
import { deviceColumns } from './columns.js';

type Parts = Pick<Platform, 'ports'>;

export const deviceFunctions = ({ ports }: Parts, environment: Pick<Environment, 'db'>): ListFunctions =>
  new Map([['times', { ...TIMES, sql: (args) => ports.behaviour.sql(environment, behaviourOf(args)) }]]);

/**
 * Before a statement with such a filter: sees to it that what it asks for is counted.
 * @returns as of when; null where it asks for no behaviour
 * @throws {Problem} malformed-filter
 */
export async function prepareBehaviour({ ports }: Parts, environment: Environment, filter: string | undefined): Promise<Date | null> {
  // Most filters ask for none, and are read once only.
  if (!filter?.includes('times')) return null;
  const kinds = kindsOf(await deviceColumns({ ports }, environment));
  const condition = readingFilter(() => readFilter(filter, flatScope(kinds, new Map([['times', TIMES]]))));
  return ports.behaviour.prepare(
    environment,
    callsOf(condition).map(({ args }) => behaviourOf(args)),
  );
}
