import type { Capability } from '../../platform/capability.js';
import { smsEvents } from './inbox.js';
import type { Parts } from './parts.js';
import { smsRoutes } from './routes.js';

export function sms(parts: Parts): Capability {
  parts.gatewayPorts.smsEvents = (environment, gateway) => smsEvents(parts, environment, gateway);
  return { name: 'sms', routes: smsRoutes(parts) };
}
