/** What this room stands on. */
import type { UserOffer } from '../users/capability.js';
import type { Parts as UserParts } from '../users/parts.js';

export type Parts = UserParts & UserOffer;
