/** What this room stands on. */
import type { Parts as NotificationParts } from '../notifications/parts.js';

export type Parts = NotificationParts;
