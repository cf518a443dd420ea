/** What this room stands on. */
import type { DeviceStore } from '../../messages/devices/store.js';
import type { Parts as GatewayParts } from '../../messages/gateways/parts.js';
import type { Parts as AppParts } from '../../setup/apps/parts.js';
import type { Parts as FunctionParts } from '../functions/parts.js';

export type Parts = FunctionParts & AppParts & GatewayParts & { devices: DeviceStore };
