/** What this room stands on. */
import type { Parts as UserParts } from '../users/parts.js';
import type { Parts as SettingsParts } from '../../messages/settings/parts.js';
import type { UserOffer } from '../users/capability.js';

export type Parts = UserParts & SettingsParts & UserOffer;
