import type { FileSettings } from '@orchard/contract';
import { Settings } from '../../platform/settings/settingStore.js';

const GIBIBYTE = 2 ** 30;

export const fileSettings = new Settings<FileSettings>('files', () => ({
  totalBytes: null,
  userBytes: null,
  fileBytes: 5 * GIBIBYTE,
  keepDeletedDays: 7,
  editions: 10,
}));
