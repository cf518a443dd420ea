/** The keys of backups as the settings give them, or the file of the data directory. */
import { backupKeyFile, readBackupKey } from '../../platform/dataDirectory.js';
import type { Platform } from '../../platform/platform.js';
import { BackupKeys } from './sealing.js';

export function backupKeys({ config, secretKey }: Pick<Platform, 'config' | 'secretKey'>): BackupKeys {
  const [first, ...rest] = config.backupKeys;
  if (first) return new BackupKeys([first, ...rest], 'ORCHARD_BACKUP_KEY');
  return new BackupKeys([readBackupKey(config.dataDirectory, secretKey)], backupKeyFile(config.dataDirectory));
}
