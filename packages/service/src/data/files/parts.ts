/** What this room stands on. */
import type { Parts as FunctionParts } from '../functions/parts.js';

export type Stands = FunctionParts;
export type Parts = Stands;
