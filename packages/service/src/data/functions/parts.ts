/** What this room stands on. */
import type { Parts as RecordParts } from '../records/parts.js';
import type { FunctionPorts } from './ports.js';

export type Stands = RecordParts;
export type Parts = Stands & { functionPorts: FunctionPorts };
