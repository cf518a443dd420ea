import { operations } from '@orchard/contract';
import type { Command } from 'commander';
import { addList } from '../declared.js';

/** Notices to the team. */
export function addNoticeCommands(program: Command): void {
  program.command('notice').description('notices to the team');
  addList(
    program,
    operations.notices.list,
    ['at', ['place', ({ app, environment }) => (app ? `${app}/${environment}` : '')], 'title', 'read'],
    {
      about: 'notices, latest first',
    },
  );
}
