/** Hourly work on devices: devices not seen for long are retired, unused web push keys are deleted. */
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { DeviceStore } from './store.js';

const DAY_MS = 86_400_000;

export async function tendDevices(parts: Parts, environment: Environment): Promise<void> {
  const { retireAfterDays } = await parts.messageSettings.read(environment);
  const now = parts.now();
  const store = new DeviceStore(parts);
  if (retireAfterDays > 0) {
    const retired = await store.retireUnseen(environment, new Date(now - retireAfterDays * DAY_MS), retireAfterDays, new Date(now));
    if (retired > 0) parts.log.info({ environment: environment.id, retired }, 'devices not seen for long were retired');
  }
  const keys = await parts.webPush.describe(environment);
  if (keys.length < 2) return;
  const used = await store.pushKeysInUse(environment);
  // Devices from before keys had names were subscribed with the first key.
  await parts.webPush.dropUnused(environment, new Set(used.map((pushKey) => pushKey ?? (keys[0]?.id as string))));
}
