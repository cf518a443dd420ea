/** What this room stands on. */
import type { Parts as GatewayParts } from '../gateways/parts.js';
import type { Parts as SettingsParts } from '../settings/parts.js';

export type Parts = GatewayParts & SettingsParts;
