import { actorWords, operations, type ReplyOf } from '@orchard/contract';
import type { Command } from 'commander';
import { readObject } from '../asking.js';
import { type GlobalOptions, workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { printItem, printList } from '../output.js';

export function addChannelCommands(program: Command): void {
  const channel = program.command('channel').description('named streams of messages for connected clients');
  addList(program, operations.channels.list, [
    'name',
    'listening',
    'messages',
    'keep',
    ['listen', ({ rules }) => rules.listen],
    ['publish', ({ rules }) => rules.publish],
  ]);
  addPut(channel);
  addCall(program, operations.channels.read, { about: 'a channel with its latest messages and who listens', print: printChannel });
  addPublish(channel);
  addRemoval(program, operations.channels.remove, {
    about: 'delete a channel and its messages',
    what: ({ channel: name }) => `Deleting the channel ${name}`,
    done: ({ channel: name }) => `Deleted the channel ${name}.`,
  });
}

function addPut(channel: Command): void {
  channel
    .command('add')
    .description('add a channel, or change its rules and how much it keeps')
    .argument('<name>')
    .option('--listen <cql2>', 'who may listen, such as "me(\'id\') IS NOT NULL"')
    .option('--publish <cql2>', 'who may publish')
    .option('--keep <n>', 'messages kept for later listeners')
    .action(async (name: string, own: { listen?: string; publish?: string; keep?: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      const rules = { ...(own.listen ? { listen: own.listen } : {}), ...(own.publish ? { publish: own.publish } : {}) };
      const body = { ...(Object.keys(rules).length ? { rules } : {}), ...(own.keep ? { keep: Number(own.keep) } : {}) };
      printItem(await client.call(operations.channels.put, { params: { ...params, channel: name }, body }), options);
    });
}

function printChannel({ latest, presence, rules, ...rest }: ReplyOf<typeof operations.channels.read>, options: GlobalOptions): void {
  if (options.json) return printItem({ ...rest, rules, presence, latest }, options);
  printItem({ ...rest, ...rules, users: presence.users.map(({ userId }) => userId).join(' ') }, options);
  printList(
    latest,
    ['number', 'at', ['sender', ({ sender }) => actorWords(sender)], ['data', ({ data }) => JSON.stringify(data)]],
    options,
  );
}

function addPublish(channel: Command): void {
  channel
    .command('publish')
    .description('publish a message on a channel')
    .argument('<name>')
    .requiredOption('--data <json>', 'what clients get; - for standard input')
    .option('--title <text>', 'also send a notification to followers of the topic of that name who do not listen')
    .option('--body <text>', 'the text of that notification')
    .action(async (name: string, own: { data: string; title?: string; body?: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      const notify = own.title ? { notify: { title: own.title, ...(own.body ? { body: own.body } : {}) } } : {};
      const body = { data: await readObject(own.data), ...notify };
      printItem(await client.call(operations.channels.publishManaged, { params: { ...params, channel: name }, body }), options);
    });
}
