/** What this room stands on. */
import type { Parts as GatewayParts } from '../../messages/gateways/parts.js';

export type Parts = GatewayParts;
