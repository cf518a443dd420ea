import type { Capability } from '../../platform/capability.js';
import { Questions } from './answering.js';
import type { Parts } from './parts.js';
import { questionRoutes } from './routes.js';
import { Asking } from './asking.js';

export type QuestionsOffer = { questions: Questions };

export function questions(parts: Parts): Capability<QuestionsOffer> {
  const { people, plan, contexts, log, now } = parts;
  const asking = new Asking({ people, plan, contexts }, log, now);
  const asked = new Questions(parts, asking);
  return {
    name: 'questions',
    offer: { questions: asked },
    routes: questionRoutes(parts, asked),
    dataOfUser: async (environment, userId) => ({
      events: (await asked.ofUser(environment, userId)).map(({ at, name, properties }) => ({
        at: new Date(at).toISOString(),
        name,
        properties,
      })),
    }),
    stop: () => asking.stop(),
  };
}
