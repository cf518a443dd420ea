/** What this room stands on. */
import type { AccountsOffer } from '../accounts/capability.js';
import type { Parts as AccountParts } from '../accounts/parts.js';

export type Parts = AccountParts & AccountsOffer;
