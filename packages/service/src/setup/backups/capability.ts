import type { Capability } from '../../platform/capability.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { beginDue } from './due.js';
import { Erasures } from './erasures.js';
import { backupKeys } from './keys.js';
import { BACKUP_JOB, type Ground, PROOF_JOB, RESTORE_JOB } from './ground.js';
import { Making } from './making.js';
import type { Parts } from './parts.js';
import { Places } from './places.js';
import { Proving } from './proving.js';
import { Restoring } from './restoring.js';
import { backupRoutes } from './routes.js';
import { BackupStore } from './store.js';

const MINUTE_MS = 60_000;

export function backups(parts: Parts): Capability {
  const store = new BackupStore(parts.database);
  const places = new Places(parts);
  const keys = backupKeys(parts);
  const erasures = new Erasures(parts, store, places, keys);
  const ground: Ground = { parts, store, places, keys, erasures };
  const restoring = new Restoring(ground);
  return {
    name: 'backups',
    routes: backupRoutes(ground, restoring),
    jobs: { [BACKUP_JOB]: new Making(ground).job, [PROOF_JOB]: new Proving(ground).job, [RESTORE_JOB]: restoring.job },
    recurring: [
      { work: 'begin backups that are due', everyMs: MINUTE_MS, eachEnvironment: (environment) => beginDue(ground, environment) },
      { work: 'keep the list of erasures beside the backups', everyMs: MINUTE_MS, run: () => erasures.keepNew() },
      { work: 'drop environments that were replaced', everyMs: HOUR_MS, run: () => restoring.dropReplaced() },
    ],
    onUserRemoved: (removal) => erasures.note(removal),
  };
}
