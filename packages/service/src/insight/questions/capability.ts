import type { Capability } from '../../platform/capability.js';
import { Questions } from './answering.js';
import type { Parts } from './parts.js';
import { questionRoutes } from './routes.js';
import { QuestionThread } from './thread.js';

export type QuestionsOffer = { questions: Questions };

export function questions(parts: Parts): Capability<QuestionsOffer> {
  const { people, plan, contexts, log, now } = parts;
  const thread = new QuestionThread({ people, plan, contexts }, log, now);
  const asked = new Questions(parts, thread);
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
    stop: () => thread.stop(),
  };
}
