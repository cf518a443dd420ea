import { operations, standingWords } from '@orchard/contract';
import type { Command } from 'commander';
import { addCall, addList, addRemoval } from '../declared.js';

export function addStandingCommands(program: Command): void {
  program.command('standing').description('notifications for each record, so long before or after a date or time in it');
  addList(program, operations.standing.list, [
    'id',
    'name',
    'collection',
    ['when', standingWords],
    'sent',
    ['state', ({ active, problem }) => problem ?? (active ? 'on' : 'off')],
  ]);
  const options = {
    title: { about: 'such as "Tomorrow at {record.hut.name}"' },
    body: { about: 'the text, with {record.…} and {user.…}' },
  };
  addCall(program, operations.standing.add, { options });
  addCall(program, operations.standing.change, { options });
  addRemoval(program, operations.standing.remove, {
    what: ({ standing }) => `Deleting the standing notification ${standing}`,
    done: ({ standing }) => `Deleted the standing notification ${standing}.`,
  });
  addList(program, operations.standing.next, ['dueAt', 'zone', 'record', 'person', 'title', 'body', 'reach']);
  addList(program, operations.standing.sent, ['at', 'record', 'value', 'outcome', 'reason', 'notification']);
}
