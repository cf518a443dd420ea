/** Tries a rule of a folder: whether it allows a user and a file, and which part decides. */
import type { JsonObject, RecordAction } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import { FILES } from '../collections/filesShape.js';
import { Records } from '../records/records.js';
import { tryRule } from '../records/tryRule.js';
import { missingFile } from './access.js';
import type { FilesRoom } from './filesRoom.js';
import { folderPathOf } from './paths.js';

type Trial = {
  action: RecordAction;
  user: string | null;
  roles?: string[] | undefined;
  file: string | JsonObject;
  rule?: string | undefined;
};

/** @throws {Problem} not-found, malformed-filter, invalid-input */
export async function tryFolderRule(room: FilesRoom, environment: Environment, { action, user, roles, file, rule }: Trial) {
  const { folders, reading, parts } = room;
  await parts.catalogue.files(environment);
  const { record, folder } =
    typeof file === 'string' ? await stored(file) : { record: file, folder: folderPathOf(String(file.folder ?? ''), 'body.file.folder') };
  const { inForce } = await folders.settingsOf(environment, folder);
  const trial = { action, user, record, rule: rule ?? inForce[action], ...(roles ? { roles } : {}) };
  return tryRule(parts, new Records(parts), environment, FILES, trial);

  async function stored(path: string): Promise<{ record: string; folder: string }> {
    const row = await reading.find(environment, path);
    if (!row) throw missingFile(path, { told: true, userId: null });
    return { record: row.id, folder: row.folder };
  }
}
