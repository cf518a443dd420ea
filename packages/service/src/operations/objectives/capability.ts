import type { Capability } from '../../platform/capability.js';
import type { Platform } from '../../platform/platform.js';
import { Evaluator } from './evaluator.js';
import { giveObjectives } from './managing.js';
import { withoutObjectives } from './store.js';
import { objectiveRoutes } from './routes.js';

export function objectives(platform: Platform): Capability<{ evaluator: Evaluator }> {
  const { changes, now } = platform;
  const evaluator = new Evaluator(platform);
  evaluator.onChange(async (environment) => {
    if (environment) changes.wake(environment.id);
  });
  return {
    name: 'objectives',
    offer: { evaluator },
    routes: objectiveRoutes(platform),
    upgrade: { needed: withoutObjectives, run: (environment) => giveObjectives(environment, now()) },
    onEnvironmentCreated: (environment) => giveObjectives(environment, now()),
    start: () => evaluator.start(),
    stop: () => evaluator.stop(),
  };
}
