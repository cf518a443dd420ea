/** What the work of this room stands on. */
import type { Erasures } from './erasures.js';
import type { Parts } from './parts.js';
import type { Places } from './places.js';
import type { BackupKeys } from './sealing.js';
import type { BackupRow, BackupStore } from './store.js';

export type Ground = { parts: Parts; store: BackupStore; places: Places; keys: BackupKeys; erasures: Erasures };

export const BACKUP_JOB = 'backup';
export const PROOF_JOB = 'prove backup';
export const RESTORE_JOB = 'restore';

/** Another instance has taken it over, or the service stops. */
export class HandedOver extends Error {}

/** Backups of an environment are made, proved, restored and removed one after another, on all instances. */
export const leaseOf = ({ app, environment }: Pick<BackupRow, 'app' | 'environment'>): string => `backups of ${app}/${environment}`;
