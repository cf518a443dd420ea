/** Releases deliveries that waited for a gateway when it works again. */
import type { Environment } from '../../platform/call.js';
import { hastenWaiting as hastenDeliveries } from './deliveryStore.js';
import type { Parts } from './parts.js';
import { SEND_JOB } from './spreadStore.js';

export async function hastenWaiting({ jobs, now }: Parts, environment: Environment, gateway: string): Promise<void> {
  if ((await hastenDeliveries(environment, gateway, new Date(now()))) > 0) await jobs.hasten(environment, SEND_JOB);
}
