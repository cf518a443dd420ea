import { type AnyOperation, type BodyOf, operations, type ReplyOf } from '@orchard/contract';
import { bind, type Call, environmentOf, type Route, type SignedInMember } from '../../platform/call.js';
import { withProgress } from '../../platform/live/progressStream.js';
import { askAcross } from './across.js';
import type { Asked, Questions } from './answering.js';
import type { Parts } from './parts.js';
import type { Watch } from './asking.js';

export function questionRoutes(parts: Parts, questions: Questions): Route[] {
  const own = operations.insight;
  const question = <O extends AnyOperation>(operation: O, answer: (asked: Asked, body: BodyOf<O>) => Promise<ReplyOf<O>>): Route =>
    bind(operation, (call) =>
      withProgress(parts, call as Call, (progress) => answer({ environment: environmentOf(call), ...leaving(call), progress }, call.body)),
    );
  return [
    question(own.events, (asked, body) => questions.events(asked, body)),
    question(own.funnel, (asked, body) => questions.funnel(asked, body)),
    question(own.why, (asked, body) => questions.why(asked, body)),
    question(own.people, (asked, body) => questions.people(asked, body)),
    question(own.behind, (asked, body) => questions.behind(asked, body)),
    question(own.effect, (asked, body) => questions.effect(asked, body)),
    question(own.visits, (asked, body) => questions.visits(asked, body)),
    question(own.arrivals, (asked, body) => questions.arrivals(asked, body)),
    question(own.returns, (asked, body) => questions.returns(asked, body)),
    question(own.paths, (asked, body) => questions.paths(asked, body)),
    bind(own.across, (call) =>
      withProgress(parts, call as Call, (progress) =>
        askAcross(parts, call.member as SignedInMember, call.body, { ...leaving(call), progress }),
      ),
    ),
  ];
}

/** A question ends when the page that asked it has left. */
function leaving({ response }: Pick<Call, 'response'>): Pick<Watch, 'signal'> {
  const left = new AbortController();
  response.once('close', () => left.abort(new Error('nobody waits for the answer any more')));
  return { signal: left.signal };
}
