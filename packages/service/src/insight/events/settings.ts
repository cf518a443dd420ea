/** What an environment takes of events, and how they are counted. */
import type { InsightSettings } from '@orchard/contract';
import { Settings } from '../../platform/settings/settingStore.js';

/** Thirteen months: a month can be set beside the same one a year before. */
export const insightSettings = new Settings<InsightSettings>('insight', () => ({
  zone: 'UTC',
  unplanned: 'take',
  consent: false,
  barred: [],
  visitGapMin: 30,
  days: 400,
}));
