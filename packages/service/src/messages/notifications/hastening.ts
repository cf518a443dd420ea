/** Lets deliveries that wait for their gateway go at once, when it was mended. */
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { SEND_JOB } from './spreading.js';

export async function hastenWaiting({ database, jobs, now }: Parts, environment: Environment, gateway: string): Promise<void> {
  const at = new Date(now());
  const db = `\`${environment.database}\``;
  const { affectedRows } = await database.run(
    `UPDATE ${db}._deliveries d JOIN ${db}._notifications n ON n.id = d.notificationId AND n.state = 'sending'
     SET d.nextAttemptAt = ? WHERE d.gateway = ? AND d.state = 'queued' AND d.nextAttemptAt > ?`,
    [at, gateway, at],
  );
  if (affectedRows === 0) return;
  await database.run('UPDATE jobs SET runAt = ? WHERE environmentId = ? AND kind = ? AND runAt > ?', [at, environment.id, SEND_JOB, at]);
  void jobs.look();
}
