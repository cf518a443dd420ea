import { operations } from '@orchard/contract';
import type { Command } from 'commander';
import { confirm } from '../asking.js';
import { workplace } from '../context.js';
import { moment, note, printItem, printList } from '../output.js';
import { type ListOptions, listOptions, listQuery } from './people.js';

export function addJobCommands(program: Command): void {
  const job = program.command('job').description('work that outlives a call');
  listOptions(job.command('list').description('jobs, such as --filter "state = \'given-up\'"')).action(
    async (own: ListOptions, command: Command) => {
      const { options, client, params } = workplace(command);
      const page = await client.call(operations.jobs.list, { params, query: listQuery(own) });
      printList(
        page.items,
        {
          state: ({ state }) => state,
          kind: ({ kind }) => kind,
          subject: ({ subject }) => subject,
          next: ({ runAt, state }) => (state === 'given-up' ? '' : moment(runAt)),
          failures: ({ attempts }) => attempts,
          'last error': ({ lastError }) => lastError,
          id: ({ id }) => id,
        },
        options,
        page.next,
      );
    },
  );
  job
    .command('retry')
    .description('try it again now, as if it had never failed')
    .argument('<id>')
    .action(async (id: string, _own: object, command: Command) => {
      const { options, client, params } = workplace(command);
      const { kind, subject, state } = await client.call(operations.jobs.retry, { params: { ...params, job: id } });
      printItem({ kind, subject, state }, options);
    });
  job
    .command('drop')
    .description('throw it away: what it was to do is not done')
    .argument('<id>')
    .option('--yes', 'do not ask')
    .action(async (id: string, own: { yes?: boolean }, command: Command) => {
      const { options, client, params } = workplace(command);
      await confirm(`Dropping the job ${id}`, own.yes);
      await client.call(operations.jobs.drop, { params: { ...params, job: id } });
      note(`Dropped ${id}.`, options);
    });
}
