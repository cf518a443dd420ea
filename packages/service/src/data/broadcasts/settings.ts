import type { BroadcastSettings } from '@orchard/contract';
import { Settings } from '../../platform/settings/settingStore.js';

const SIGNED_IN = "me('id') IS NOT NULL";

export const broadcastSettings = new Settings<BroadcastSettings>('broadcasts', () => ({
  send: SIGNED_IN,
  watch: SIGNED_IN,
  mostAtOnce: 4,
  mostMinutes: 240,
  mostKbits: 8_000,
  silentSeconds: 30,
  keepRecordingsDays: null,
}));
