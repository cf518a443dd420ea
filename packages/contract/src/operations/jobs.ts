import { z } from 'zod';
import { ENVIRONMENT, environmentParams, listQuery, nothing, operation, page, time } from '../common.js';

export const JOB_STATES = ['waiting', 'running', 'failing', 'given-up'] as const;
export const job = z
  .object({
    id: z.string(),
    kind: z.string().describe('What is to be done, such as `send-notification`'),
    subject: z.string().describe('What it is about: an id, by kind'),
    state: z.enum(JOB_STATES).describe('`failing` is tried again by itself; `given-up` waits for somebody to retry or drop it'),
    runAt: time.describe('When it is tried next'),
    attempts: z.int().describe('Failures since it last went well'),
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
    method: 'GET',
    path: `${ENVIRONMENT}/jobs`,
    summary: 'Work that waits, runs, fails or was given up',
    caller: { kind: 'member', role: 'viewer' },
    params: environmentParams,
    query: listQuery,
    reply: page(job),
    problems: ['malformed-filter'],
  }),
  retry: operation({
    id: 'jobs.retry',
    method: 'POST',
    path: `${ENVIRONMENT}/jobs/{job}/retry`,
    summary: 'Try a job again now, as if it had never failed',
    caller: { kind: 'member', role: 'developer' },
    params: one,
    reply: job,
    problems: ['not-found'],
  }),
  drop: operation({
    id: 'jobs.drop',
    method: 'DELETE',
    path: `${ENVIRONMENT}/jobs/{job}`,
    summary: 'Throw a job away: what it was to do is not done',
    caller: { kind: 'member', role: 'maintainer' },
    params: one,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
};
