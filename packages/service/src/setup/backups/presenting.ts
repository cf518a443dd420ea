/** Backups and restores as the API shows them. */
import type { BackupDocument, RestoreDocument } from '@orchard/contract';
import type { Actors } from '../../platform/actors.js';
import { storedJson } from '../../platform/database/storedJson.js';
import type { BackupKeys } from './sealing.js';
import type { BackupRow, RestoreRow } from './store.js';
import type { RestoreWish } from './wish.js';

/** A backup as the API shows it. */
export function presentBackup(actors: Actors, keys: BackupKeys, row: BackupRow): BackupDocument {
  const { id, app, environment, state, note, doing, problem, place, rows, bytes, files, fileBytes, newBytes, keyMark } = row;
  return {
    id,
    app,
    environment,
    state,
    at: row.at?.toISOString() ?? null,
    by: actors.show(row.by),
    note,
    askedAt: row.askedAt.toISOString(),
    endedAt: row.endedAt?.toISOString() ?? null,
    doing,
    problem,
    place,
    key: { mark: keyMark, here: keyMark === null || keys.of(keyMark) !== null },
    rows,
    bytes,
    files,
    fileBytes,
    newBytes,
    proof: row.provedAt && {
      at: row.provedAt.toISOString(),
      whole: row.isWhole === true,
      text: row.proof ?? '',
      durationMs: row.proofMs ?? 0,
    },
  };
}

/** A restore as the API shows it. */
export function presentRestore(actors: Actors, row: RestoreRow): RestoreDocument {
  const { id, backup, state, doing, problem, rows } = row;
  const wish = storedJson(row.wish) as RestoreWish;
  return {
    id,
    backup: backup || null,
    what: wish.what,
    collection: wish.what === 'records' ? wish.collection : null,
    moment: wish.moment,
    into: wish.what === 'environment' ? wish.into : null,
    state,
    by: actors.show(row.by),
    at: row.at.toISOString(),
    endedAt: row.endedAt?.toISOString() ?? null,
    doing,
    problem,
    rows,
    notes: storedJson(row.notes) as string[],
    undoUntil: row.replacedUntil?.toISOString() ?? null,
  };
}
