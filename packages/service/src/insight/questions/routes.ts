import { operations } from '@orchard/contract';
import { bind, type Call, environmentOf, type Route } from '../../platform/call.js';
import type { Asked, Questions } from './answering.js';

export function questionRoutes(questions: Questions): Route[] {
  const own = operations.insight;
  return [
    bind(own.events, async (call) => ({ body: await questions.events(askedBy(call), call.body) })),
    bind(own.funnel, async (call) => ({ body: await questions.funnel(askedBy(call), call.body) })),
    bind(own.why, async (call) => ({ body: await questions.why(askedBy(call), call.body) })),
    bind(own.people, async (call) => ({ body: await questions.people(askedBy(call), call.body) })),
    bind(own.effect, async (call) => ({ body: await questions.effect(askedBy(call), call.body) })),
    bind(own.visits, async (call) => ({ body: await questions.visits(askedBy(call), call.body) })),
    bind(own.arrivals, async (call) => ({ body: await questions.arrivals(askedBy(call), call.body) })),
    bind(own.returns, async (call) => ({ body: await questions.returns(askedBy(call), call.body) })),
    bind(own.paths, async (call) => ({ body: await questions.paths(askedBy(call), call.body) })),
  ];
}

/** A question ends when the page that asked it has left. */
function askedBy(call: Pick<Call, 'environment' | 'response'>): Asked {
  const leaving = new AbortController();
  call.response.once('close', () => leaving.abort(new Error('nobody waits for the answer any more')));
  return { environment: environmentOf(call), signal: leaving.signal };
}
