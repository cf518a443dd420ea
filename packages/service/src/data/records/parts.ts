/** What this room stands on. */
import type { Parts as CollectionParts } from '../collections/parts.js';
import type { RecordPorts } from './ports.js';

export type Stands = CollectionParts;
export type Parts = Stands & { recordPorts: RecordPorts };
