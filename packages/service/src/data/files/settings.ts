import type { FileSettings } from '@orchard/contract';
import { Settings } from '../../platform/settings/settingStore.js';

export const fileSettings = new Settings<FileSettings>('files', () => ({
  totalBytes: null,
  userBytes: null,
  fileBytes: 5_000_000_000,
  keepDeletedDays: 7,
  editions: 10,
}));
