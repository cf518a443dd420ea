import type { Capability } from '../../platform/capability.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { Catalogue } from './catalogue.js';
import { hasOldTriggers } from '../../platform/live/tables.js';
import type { Parts, Stands } from './parts.js';
import { emptyCollectionPorts } from './ports.js';
import { QueryLog } from './queryLog.js';
import { collectionRoutes } from './routes.js';
import { SlowPatterns } from './slowPatterns.js';
import { tendCollections } from './tending.js';

export function collections(stands: Stands): Capability<Omit<Parts, keyof Stands>> {
  const { now, log } = stands;
  const collectionPorts = emptyCollectionPorts();
  const offer = {
    collectionPorts,
    catalogue: new Catalogue(now, stands.ports, collectionPorts),
    queryLog: new QueryLog(now, log),
    slowPatterns: new SlowPatterns(),
  };
  const parts = { ...stands, ...offer };
  return {
    name: 'collections',
    offer,
    routes: collectionRoutes(parts),
    recurring: [
      {
        work: 'tend collections',
        everyMs: HOUR_MS,
        eachEnvironment: (environment) => tendCollections(parts, environment),
      },
    ],
    /** The triggers of its collections, where their form has changed. */
    upgrade: {
      needed: async (environments) => environments.filter(hasOldTriggers),
      run: (environment) => parts.catalogue.repair(environment),
    },
    start: () => parts.queryLog.start(),
    stop: () => parts.queryLog.stop(),
  };
}
