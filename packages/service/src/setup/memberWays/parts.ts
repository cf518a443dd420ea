/** What this room stands on. */
import type { Parts as GatewayParts } from '../../messages/gateways/parts.js';
import type { MemberMail } from '../members/installationMail.js';

export type Parts = GatewayParts & { memberMail: MemberMail };
