import { z } from 'zod';
import { ENVIRONMENT, environmentParams, listQuery, nothing, operation, page, time } from '../common.js';

export const JOB_STATES = ['waiting', 'running', 'failing', 'given-up'] as const;
export const job = z
  .object({
    id: z.string(),
    kind: z.string().describe('Kind of work, such as `send-notification`'),
    subject: z.string().describe('Its subject: an id, depending on the kind'),
    state: z.enum(JOB_STATES).describe('`failing` is retried automatically; `given-up` waits until somebody retries or drops it'),
    runAt: time.describe('When it runs next'),
    attempts: z.int().describe('Consecutive failures'),
    lastError: z.string().nullable(),
    failedAt: time.nullable(),
    createdAt: time,
  })
  .meta({ id: 'Job' });
export type Job = z.infer<typeof job>;

const one = environmentParams.extend({ job: z.string().max(64) });
export const jobOperations = {
  list: operation({
    id: 'jobs.list',
    command: 'job list',
    method: 'GET',
    path: `${ENVIRONMENT}/jobs`,
    summary: 'Jobs that are waiting, running, failing or given up',
    caller: { kind: 'member', role: 'viewer' },
    params: environmentParams,
    query: listQuery,
    reply: page(job),
    problems: ['malformed-filter'],
  }),
  retry: operation({
    id: 'jobs.retry',
    changes: 'job',
    command: 'job retry',
    method: 'POST',
    path: `${ENVIRONMENT}/jobs/{job}/retry`,
    summary: 'Retry a job now, with its failures reset',
    caller: { kind: 'member', role: 'developer' },
    params: one,
    reply: job,
    problems: ['not-found'],
  }),
  drop: operation({
    id: 'jobs.drop',
    changes: 'job',
    command: 'job drop',
    method: 'DELETE',
    path: `${ENVIRONMENT}/jobs/{job}`,
    summary: 'Drop a job: its work is not done',
    caller: { kind: 'member', role: 'maintainer' },
    params: one,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
};
