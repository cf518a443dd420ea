import { operations } from '@orchard/contract';
import type { Command } from 'commander';
import { addCall, addList, addRemoval } from '../declared.js';

export function addJobCommands(program: Command): void {
  addList(
    program,
    operations.instances.list,
    [
      'id',
      'host',
      'port',
      'version',
      'database',
      'state',
      ['clock', ({ clockBehindMs: ms }) => (ms === 0 ? 'right' : `${Math.round(Math.abs(ms) / 1000)} s ${ms > 0 ? 'behind' : 'ahead'}`)],
      'startedAt',
    ],
    {
      about: 'the instances that serve this installation',
    },
  );
  program.command('job').description('background work, such as sending');
  addList(
    program,
    operations.jobs.list,
    ['state', 'kind', 'subject', ['runAt', ({ runAt, state }) => (state === 'given-up' ? '' : runAt)], 'attempts', 'lastError', 'id'],
    { about: 'jobs, such as --filter "state = \'given-up\'"' },
  );
  addCall(program, operations.jobs.retry, { show: ({ kind, subject, state }) => ({ kind, subject, state }) });
  addRemoval(program, operations.jobs.drop, { what: ({ job }) => `Dropping the job ${job}`, done: ({ job }) => `Dropped ${job}.` });
}
