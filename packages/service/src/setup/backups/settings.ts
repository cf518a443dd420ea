/** When an environment is backed up, and how long its backups are kept. */
import type { BackupSettings } from '@orchard/contract';
import { Settings } from '../../platform/settings/settingStore.js';

/** Every environment is backed up each night from its first day on: whoever needs a backup has not thought of it before. */
export const BACKUP_DEFAULTS: BackupSettings = {
  schedule: { every: 'day', hour: 3 },
  keep: { days: 7, weeks: 5, months: 12 },
  prove: true,
};
export const backupSettings = new Settings<BackupSettings>('backups', () => BACKUP_DEFAULTS);
