/** What gateways ask of rooms above them; each port is filled by the room that can answer. */
import type { Environment } from '../../platform/call.js';
import type { SmsEvents } from './smpp.js';
import type { GatewayRow } from './store.js';

/** The number of devices of each gateway, and its deliveries of the last day. */
export type GatewayUse = {
  devices: { gateway: string; registered: number; reachable: number }[];
  lastDay: { gateway: string; state: string; count: number; at: Date }[];
};

export type GatewayPorts = {
  /** Receives what an SMS centre sends. */
  smsEvents: (environment: Environment, gateway: string) => SmsEvents;
  /** A member answered a message of the installation. @returns whether the answer meant something */
  memberAnswered: (environment: Environment, number: string, text: string) => Promise<boolean>;
  /** Deliveries that waited for a gateway may go out now. */
  mended: (environment: Environment, gateway: string) => Promise<void>;
  use: (environment: Environment, gateways: readonly GatewayRow[]) => Promise<GatewayUse>;
};

export const emptyGatewayPorts = (): GatewayPorts => ({
  smsEvents: () => ({ receipt: async () => undefined, message: async () => undefined }),
  memberAnswered: async () => false,
  mended: async () => undefined,
  use: async () => ({ devices: [], lastDay: [] }),
});
