/** What this room stands on. */
import type { Parts as AccountParts } from '../accounts/parts.js';
import type { UserFactorOffer } from '../factors/capability.js';

export type Parts = AccountParts & UserFactorOffer;
