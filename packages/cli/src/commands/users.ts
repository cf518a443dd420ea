import { operations } from '@orchard/contract';
import type { Command } from 'commander';
import { askSecret, readLine } from '../asking.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { addUserImport } from './userImport.js';

export function addUserCommands(program: Command): void {
  program.command('user').description('users of the environment');
  addList(program, operations.users.list, ['id', 'email', 'name', 'roles', 'disabled', 'createdAt', 'lastSeenAt']);
  addCall(program, operations.users.read);
  addCall(program, operations.users.create, {
    options: { password: false },
    more: async (command) => ({
      password: command.opts<{ passwordStdin?: boolean }>().passwordStdin ? await readLine() : await askSecret('First password: '),
    }),
  }).option('--password-stdin', 'read the password from standard input');
  addCall(program, operations.users.patch, {
    options: { disabled: { about: 'end sessions and refuse signing in; --no-disabled allows it again' } },
  });
  addUserImport(program);
  addRemoval(program, operations.users.remove, { what: ({ user }) => `Deleting the user ${user}` });
}
