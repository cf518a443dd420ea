/** What this room stands on. */
import type { Parts as RecordParts } from '../../data/records/parts.js';
import type { Parts as NotificationParts } from '../notifications/parts.js';

export type Parts = NotificationParts & RecordParts;
