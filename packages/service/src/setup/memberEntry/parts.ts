/** What this room stands on. */
import type { Parts as IdentityParts } from '../../people/identity/parts.js';
import type { Parts as MemberParts } from '../members/parts.js';

export type Parts = IdentityParts & MemberParts;
