/** What this room stands on. */
import type { AccountsOffer } from '../accounts/capability.js';
import type { ProviderOffer } from '../providers/capability.js';
import type { Parts as ProviderParts } from '../providers/parts.js';

export type Parts = ProviderParts & AccountsOffer & ProviderOffer;
