import type { Capability } from '../../platform/capability.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { Contexts, deleteEventsOf, forgetIds } from './eventStore.js';
import { eraseFromDays, packDue } from './packing.js';
import type { Parts } from './parts.js';
import { People } from './peopleStore.js';
import { Plan } from './planStore.js';
import { forgetRefusals } from './refusalStore.js';
import { eventRoutes } from './routes.js';
import { dayName, forgetDays } from './segmentStore.js';
import { insightSettings } from './settings.js';

const MINUTE_MS = 60_000;
const DAY_MS = 86_400_000;
/** An id that comes again within this time counts once. */
const IDS_MS = 8 * DAY_MS;

export type EventParts = { people: People; plan: Plan; contexts: Contexts };

export function events(parts: Parts): Capability<EventParts> {
  const offer: EventParts = { people: new People(), plan: new Plan(), contexts: new Contexts() };
  const { now } = parts;
  return {
    name: 'events',
    offer,
    routes: eventRoutes({ parts, ...offer }),
    recurring: [
      { work: 'pack events', everyMs: MINUTE_MS, eachEnvironment: ({ db }) => packDue(db, offer, now()) },
      { work: 'erase events of deleted users', everyMs: MINUTE_MS / 2, eachEnvironment: ({ db }) => eraseFromDays(db, offer, now()) },
      {
        work: 'forget old events',
        everyMs: HOUR_MS,
        eachEnvironment: async (environment) => {
          const { days } = await insightSettings.read(environment);
          await forgetDays(environment.db, dayName(now() - days * DAY_MS));
          await forgetIds(environment.db, new Date(now() - IDS_MS));
          await forgetRefusals(environment.db, now());
        },
      },
    ],
    onUserRemoved: async ({ on, environment, userId }) => {
      const numbers = await offer.people.erase(environment.db, on, userId, now());
      await deleteEventsOf(environment.db, on, numbers);
    },
  };
}
