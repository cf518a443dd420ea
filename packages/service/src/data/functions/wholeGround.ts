import type { Calls } from './calls.js';
import type { Ground } from './ground.js';
import type { Schedules } from './schedules.js';

/** The same, with what runs by itself. */
export type WholeGround = Ground & { calls: Calls; schedules: Schedules };
