import { operations } from '@orchard/contract';
import type { Command } from 'commander';
import { addCall, addList, addRemoval } from '../declared.js';

export function addTopicCommands(program: Command): void {
  program.command('topic').description('names that devices and users follow');
  addList(program, operations.topics.list, ['name', 'title', 'role', 'devices', 'users']);
  addCall(program, operations.topics.read);
  addCall(program, operations.topics.put, { options: { role: { about: 'only users with this role may follow it' } } });
  addRemoval(program, operations.topics.remove, {
    what: ({ topic }) => `Deleting the topic ${topic}`,
    done: ({ topic }) => `Deleted the topic ${topic}.`,
  });
  addCall(program, operations.topics.addFollowers);
  addCall(program, operations.topics.removeFollowers);
}
