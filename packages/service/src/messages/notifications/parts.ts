/** What this room stands on. */
import type { Parts as DeviceParts } from '../devices/parts.js';
import type { ResultJournal } from './journal.js';

export type Parts = DeviceParts & { journal: ResultJournal };
