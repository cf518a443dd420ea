/** Lets deliveries that wait for their gateway go at once, when it was mended. */
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { SEND_JOB } from './spreading.js';
import { deliveryTable, notificationTable } from './tables.js';

export async function hastenWaiting({ jobs, now }: Parts, environment: Environment, gateway: string): Promise<void> {
  const at = new Date(now());
  const { db } = environment;
  const { affectedRows } = await db.run(
    `UPDATE ${db.of(deliveryTable)} d JOIN ${db.of(notificationTable)} n ON n.id = d.notificationId AND n.state = 'sending'
     SET d.nextAttemptAt = ? WHERE d.gateway = ? AND d.state = 'queued' AND d.nextAttemptAt > ?`,
    [at, gateway, at],
  );
  if (affectedRows === 0) return;
  await jobs.hasten(environment, SEND_JOB);
}
