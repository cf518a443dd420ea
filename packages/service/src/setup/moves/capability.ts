import type { Capability } from '../../platform/capability.js';
import { MOVE_JOB, Moving } from './moving.js';
import type { Parts } from './parts.js';
import { moveRoutes } from './routes.js';
import { MoveStore } from './store.js';

/** How often each instance looks whether an environment moves. */
const LOOK_MS = 2_000;

export function moves(parts: Parts): Capability {
  const store = new MoveStore(parts.database);
  return {
    name: 'moves',
    routes: moveRoutes(parts, store),
    jobs: { [MOVE_JOB]: new Moving(parts, store).job },
    onEveryInstance: [{ work: 'follow environments that move', everyMs: LOOK_MS, run: () => parts.directory.followMoves() }],
  };
}
