import { OutsideWays } from '../../people/providers/outsideWays.js';
import type { Capability } from '../../platform/capability.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { ConsoleEntry } from './console.js';
import type { Parts } from './parts.js';
import { memberEntryRoutes } from './routes.js';

export function memberEntry(parts: Parts): Capability {
  const base = () => `${parts.address()}/member-sign-in`;
  const outside = new OutsideWays(parts, { page: base, entity: base });
  return {
    name: 'member entry',
    routes: memberEntryRoutes(parts, outside, new ConsoleEntry(parts, outside)),
    stop: () => outside.close(),
    recurring: [
      {
        work: 'forget sign-ins of members that were not finished',
        everyMs: HOUR_MS,
        run: () => outside.store.forget(parts.directory.installation(), new Date(parts.now())),
      },
    ],
  };
}
