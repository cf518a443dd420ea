/** Backups by the clock. */
import { THE_SERVICE, writeActor } from '@orchard/core';
import type { BackupSettings } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import { BACKUP_JOB, type Ground } from './ground.js';
import { backupSettings } from './settings.js';
import type { BackupRow } from './store.js';

const HOUR_MS = 3_600_000;
const DAY_MS = 24 * HOUR_MS;
/** Of an environment that was just made there is nothing to keep. */
const YOUNG_MS = HOUR_MS;
/** 1970-01-01 was a Thursday. */
const SUNDAY = 3;

/** The latest time that a schedule named, at or before `now`, in milliseconds since 1970. */
export function latestSlot({ every, hour }: NonNullable<BackupSettings['schedule']>, now: number): number {
  const today = Math.floor((now - hour * HOUR_MS) / DAY_MS);
  const day = every === 'day' ? today : today - ((today - SUNDAY + 7) % 7);
  return day * DAY_MS + hour * HOUR_MS;
}

export function nextSlot(schedule: NonNullable<BackupSettings['schedule']>, now: number): number {
  return latestSlot(schedule, now) + (schedule.every === 'day' ? DAY_MS : 7 * DAY_MS);
}

/** Begins the backup of an environment, if one is due; and says when the key of earlier ones is gone. */
export async function beginDue(ground: Ground, environment: Environment): Promise<void> {
  const { parts, store } = ground;
  const of = { app: environment.app, environment: environment.name };
  const rows = await store.list(of);
  await tellMissingKey(ground, environment, rows);
  const { schedule } = await backupSettings.read(environment);
  if (!schedule) return;
  const slot = latestSlot(schedule, parts.now());
  if (environment.createdAt.getTime() > slot - YOUNG_MS) return;
  if (rows.some((row) => row.askedAt.getTime() >= slot || row.state === 'running')) return;
  await beginBackup(ground, environment, { by: writeActor(THE_SERVICE), note: '' });
}

/** Said at once, and not when somebody needs a backup. */
async function tellMissingKey({ parts, keys }: Ground, environment: Environment, rows: readonly BackupRow[]): Promise<void> {
  const missing = rows.filter(({ state, keyMark }) => state === 'done' && keyMark && !keys.of(keyMark));
  const mark = missing[0]?.keyMark;
  if (!mark) return;
  await parts.notices.tell({
    kind: 'backup',
    environmentId: environment.id,
    once: `backup key ${environment.id} ${mark} ${keys.current.mark}`,
    title: 'The key of backups is not here',
    body: `${missing.length} ${missing.length === 1 ? 'backup was' : 'backups were'} made with the key ${mark}; the service has ${keys.current.mark} from ${keys.whereabouts}. Add the former key to ORCHARD_BACKUP_KEY, after the present one: without it nobody can read them.`,
    link: `/${environment.app}/${environment.name}/backups`,
  });
}

export async function beginBackup(
  { parts, store, places }: Ground,
  environment: Environment,
  { by, note }: Pick<BackupRow, 'by' | 'note'>,
): Promise<BackupRow> {
  const place = await places.with(async ({ words }) => words);
  const id = parts.newId();
  const installation = parts.directory.installation();
  const row = await parts.database.unit(async () => {
    await parts.jobs.add(parts.database, installation, BACKUP_JOB, id);
    const { app, name } = environment;
    return store.add({ id, app, environment: name, state: 'running', place, by, note, askedAt: new Date(parts.now()) });
  });
  await parts.jobs.wake(installation);
  return row;
}
