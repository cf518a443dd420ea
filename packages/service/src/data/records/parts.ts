/** What this room stands on. */
import type { Parts as CollectionParts } from '../collections/parts.js';

export type Parts = CollectionParts;
