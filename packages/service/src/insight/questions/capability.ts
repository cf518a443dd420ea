import type { Capability } from '../../platform/capability.js';
import { Questions } from './answering.js';
import type { Parts } from './parts.js';
import { questionRoutes } from './routes.js';
import { QuestionThread } from './thread.js';

export function questions(parts: Parts): Capability {
  const { people, plan, contexts, log, now } = parts;
  const thread = new QuestionThread({ people, plan, contexts }, log, now);
  return {
    name: 'questions',
    routes: questionRoutes(new Questions(parts, thread)),
    stop: () => thread.stop(),
  };
}
