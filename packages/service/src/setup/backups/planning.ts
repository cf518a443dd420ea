/** What restoring a backup in place of an environment would do: told before anything is done. */
import { type RestorePlanDocument, Problem } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import { changesSince, countsNow } from './planStore.js';
import { Archive } from './archive.js';
import type { Ground } from './ground.js';
import { demandReadable } from './proving.js';
import type { BackupRow } from './store.js';

/** What a machine with two cores was seen to load a second, with its indexes. */
const ROWS_A_SECOND = 40_000;
const FILES_A_SECOND = 60;
const AT_LEAST_MS = 10_000;

export async function planOf(
  { parts, places, keys }: Ground,
  environment: Environment,
  row: BackupRow,
  moment: Date | null,
): Promise<RestorePlanDocument> {
  const { manifest } = await places.with(async (place) => new Archive(place, row).open(row.id, keys));
  demandReadable(manifest);
  const at = new Date(manifest.at);
  demandMoment(moment, at, parts.now());
  const then = new Map<string, number>([
    ...manifest.tables.filter(({ collection }) => collection).map(({ name, rows }): [string, number] => [name, rows]),
    ['users', manifest.tables.find(({ name }) => name === '_users')?.rows ?? 0],
    ['files', manifest.files.count],
  ]);
  const now = await countsNow(environment.db);
  const names = [...new Set([...now.keys(), ...then.keys()])].sort();
  const since = moment ?? at;
  const changes = await changesSince(environment.db, since);
  const rows = manifest.tables.reduce((sum, table) => sum + table.rows, 0);
  return {
    at: manifest.at,
    lines: [
      `Everything of the backup of ${manifest.at} is put into a database of its own; ${environment.app}/${environment.name} goes on meanwhile.`,
      ...(moment
        ? [`Records and users are brought forward to ${moment.toISOString()}, by the change feed; everything else stays as of the backup.`]
        : []),
      'People who were erased since are erased again.',
      'The restored environment takes the place of the present one: its keys, clients, roles and hosts stay as they are now.',
      'Messages and function calls that were waiting are dropped; schedules and standing notifications go on.',
      'Devices load their data anew when they come back.',
      'The present environment is kept for three days: until then the restore can be undone.',
    ],
    losses: [
      ...(changes > 0
        ? [`${changes.toLocaleString('en')} ${changes === 1 ? 'change' : 'changes'} of records and users since ${since.toISOString()}.`]
        : []),
      ...names.filter((name) => now.has(name) && !then.has(name)).map((name) => `The collection ${name}, which was made after the backup.`),
      `Messages sent, events, recorded calls and changes of the setup since ${at.toISOString()}.`,
    ],
    tables: names.map((name) => ({ name, now: now.get(name) ?? null, inBackup: then.get(name) ?? null })),
    durationMs: AT_LEAST_MS + Math.round((rows / ROWS_A_SECOND + manifest.files.count / FILES_A_SECOND) * 1000),
  };
}

/** @throws {Problem} invalid-input */
export function demandMoment(moment: Date | null, at: Date, now: number): void {
  if (!moment || (moment >= at && moment.getTime() <= now)) return;
  throw new Problem('invalid-input', `The backup can be brought to a moment between ${at.toISOString()}, when it was made, and now.`, {
    fields: [
      {
        path: 'moment',
        problem: 'Not between the backup and now.',
        expected: `${at.toISOString()} or later; for an earlier moment take an earlier backup`,
      },
    ],
  });
}
