/** What is done for devices every hour: those not seen for long are retired, web push keys nobody uses are let go. */
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { DeviceStore } from './store.js';
import { deviceTable } from './tables.js';

const DAY_MS = 86_400_000;

export async function tendDevices(parts: Parts, environment: Environment): Promise<void> {
  const { retireAfterDays } = await parts.messageSettings.read(environment);
  const now = parts.now();
  if (retireAfterDays > 0) {
    const store = new DeviceStore(parts);
    const retired = await store.retireUnseen(environment, new Date(now - retireAfterDays * DAY_MS), retireAfterDays, new Date(now));
    if (retired > 0) parts.log.info({ environment: environment.id, retired }, 'devices not seen for long were retired');
  }
  const keys = await parts.webPush.describe(environment);
  if (keys.length < 2) return;
  const rows = await environment.db.rows<{ pushKey: string | null }>(
    `SELECT DISTINCT pushKey FROM ${environment.db.of(deviceTable)} WHERE endpoint IS NOT NULL AND retiredAt IS NULL`,
  );
  // Devices from before keys had names were subscribed with the first.
  await parts.webPush.dropUnused(environment, new Set(rows.map(({ pushKey }) => pushKey ?? (keys[0]?.id as string))));
}
