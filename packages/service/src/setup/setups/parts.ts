/** What this room stands on. */
import type { FunctionPorts } from '../../data/functions/ports.js';
import type { Platform } from '../../platform/platform.js';

export type Parts = Platform & { functionPorts: FunctionPorts };
