/** What gateways ask of rooms above them; each port is filled by the room that can answer. */
import type { Environment } from '../../platform/call.js';
import type { SmsEvents } from './smpp.js';
import type { GatewayRow } from './store.js';

/** How many devices each gateway leads to, and what went through it in the last day. */
export type GatewayUse = {
  devices: { gateway: string; registered: number; reachable: number }[];
  lastDay: { gateway: string; state: string; count: number; at: Date }[];
};

export type GatewayPorts = {
  /** Takes what an SMS centre brings. */
  smsEvents: (environment: Environment, gateway: string) => SmsEvents;
  /** Messages that waited for a gateway may go now. */
  mended: (environment: Environment, gateway: string) => Promise<void>;
  use: (environment: Environment, gateways: readonly GatewayRow[]) => Promise<GatewayUse>;
};

export const emptyGatewayPorts = (): GatewayPorts => ({
  smsEvents: () => ({ receipt: async () => undefined, message: async () => undefined }),
  mended: async () => undefined,
  use: async () => ({ devices: [], lastDay: [] }),
});
