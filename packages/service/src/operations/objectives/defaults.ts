/** The objectives a new environment starts with: what most apps would call well, looser where people develop. */
import type { Objective } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';

const MINUTE_MS = 60_000;
const DAY_MS = 1440 * MINUTE_MS;
/** Answers that an app asks for in the normal course of things: a record that is not there, a token to be renewed. */
const NO_TROUBLE = ['not-found', 'token-expired', 'version-conflict'];

export function defaultObjectives({ name }: Pick<Environment, 'name'>): Objective[] {
  const strict = name !== 'dev';
  const objective = (one: Omit<Objective, 'leastCalls' | 'leaveOut'> & Partial<Objective>): Objective => ({
    leastCalls: 20,
    leaveOut: [],
    ...one,
  });
  return [
    objective({
      name: 'fast-answers',
      title: 'Calls are answered soon',
      subject: { of: 'calls' },
      measure: { of: 'within', ms: strict ? 500 : 1_000 },
      windowMs: 5 * MINUTE_MS,
      stressed: strict ? 0.95 : 0.9,
      failing: strict ? 0.8 : 0.5,
    }),
    objective({
      name: 'few-failures',
      title: 'Few calls fail',
      subject: { of: 'calls' },
      measure: { of: 'failed', as: 'share' },
      windowMs: 5 * MINUTE_MS,
      stressed: strict ? 0.01 : 0.05,
      failing: strict ? 0.05 : 0.25,
    }),
    objective({
      name: 'few-refusals',
      title: 'Few calls are refused',
      subject: { of: 'calls' },
      measure: { of: 'refused' },
      windowMs: 15 * MINUTE_MS,
      stressed: strict ? 0.2 : 0.5,
      failing: strict ? 0.5 : 0.9,
      leaveOut: NO_TROUBLE,
    }),
    objective({
      name: 'deliveries',
      title: 'Networks accept what is sent',
      subject: { of: 'gateway' },
      measure: { of: 'delivered' },
      windowMs: 15 * MINUTE_MS,
      stressed: strict ? 0.9 : 0.7,
      failing: strict ? 0.5 : 0.2,
      leastCalls: 10,
    }),
    objective({
      name: 'no-backlog',
      title: 'Jobs do not wait',
      subject: { of: 'jobs' },
      measure: { of: 'backlog' },
      windowMs: MINUTE_MS,
      stressed: strict ? 2 * MINUTE_MS : 10 * MINUTE_MS,
      failing: strict ? 10 * MINUTE_MS : 60 * MINUTE_MS,
      leastCalls: 0,
    }),
    objective({
      name: 'month',
      title: 'A month with few failures',
      subject: { of: 'calls' },
      measure: { of: 'failed', as: 'share' },
      windowMs: 30 * DAY_MS,
      stressed: strict ? 0.001 : 0.01,
      failing: strict ? 0.005 : 0.05,
      leastCalls: 1_000,
    }),
  ];
}
