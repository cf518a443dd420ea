import type { Capability } from '../../platform/capability.js';
import { ARRIVAL_JOB, Arriving } from './arriving.js';
import type { Parts } from './parts.js';
import { arrivalRoutes } from './routes.js';
import { ArrivalStore } from './store.js';

export function arrivals(parts: Parts): Capability {
  const store = new ArrivalStore(parts.database);
  const arriving = new Arriving(parts, store);
  return { name: 'arrivals', routes: arrivalRoutes(parts, store, arriving), jobs: { [ARRIVAL_JOB]: arriving.job } };
}
