import type { Capability } from '../../platform/capability.js';
import type { Parts } from './parts.js';
import { turnRoutes } from './routes.js';

/** Calls between people: they agree over a channel; where they cannot reach each other, a TURN server of the team relays. */
export function turn(parts: Parts): Capability {
  return { name: 'turn', routes: turnRoutes(parts) };
}
