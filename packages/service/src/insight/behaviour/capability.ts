import type { Capability } from '../../platform/capability.js';
import type { Parts } from './parts.js';
import { BehaviourSets } from './sets.js';
import { timesSql } from './store.js';

const REFRESH_MS = 60_000;

export function behaviour(parts: Parts): Capability {
  const sets = new BehaviourSets(parts);
  parts.ports.behaviour = { prepare: (environment, wanted) => sets.prepare(environment, wanted), sql: ({ db }, one) => timesSql(db, one) };
  return {
    name: 'behaviour',
    recurring: [
      { work: 'count people by what they did', everyMs: REFRESH_MS, eachEnvironment: (environment) => sets.refresh(environment) },
    ],
  };
}
