/** What this room stands on. */
import type { Parts as RecordParts } from '../records/parts.js';

export type Parts = RecordParts;
