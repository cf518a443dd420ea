/** What this room stands on. */
import type { Platform } from '../../platform/platform.js';
import type { Notices } from '../../setup/notices/noticeStore.js';
import type { GatewayDirectory } from './gatewayDirectory.js';
import type { GatewayPorts } from './ports.js';
import type { GatewayRefusals } from './refusals.js';
import type { WebPushGateway } from './webPush.js';

export type Stands = Platform & { notices: Notices };
export type Parts = Stands & {
  gateways: GatewayDirectory;
  webPush: WebPushGateway;
  refusals: GatewayRefusals;
  gatewayPorts: GatewayPorts;
};
