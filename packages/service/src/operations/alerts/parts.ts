/** What this room stands on. */
import type { Parts as GatewayParts } from '../../messages/gateways/parts.js';
import type { MemberMessages } from '../../setup/memberWays/telling.js';
import type { Evaluator } from '../objectives/evaluator.js';

export type Parts = GatewayParts & { memberMessages: MemberMessages; evaluator: Evaluator };
