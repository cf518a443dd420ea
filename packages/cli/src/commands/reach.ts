/** Topics, short messages, channels, and what the product tells the team. */
import { actorWords, operations } from '@orchard/contract';
import type { Command } from 'commander';
import { confirm, readObject } from '../asking.js';
import { CommandError, workplace } from '../context.js';
import { moment, note, printItem, printList } from '../output.js';
import { printPreview, printStatus } from './messages.js';
import { type ListOptions, listOptions, listQuery } from './people.js';

export function addTopicCommands(program: Command): void {
  const topic = program.command('topic').description('names that devices and users follow');
  listOptions(topic.command('list').description('topics, with how many follow them')).action(async (own: ListOptions, command: Command) => {
    const { options, client, params } = workplace(command);
    const page = await client.call(operations.topics.list, { params, query: listQuery(own) });
    printList(
      page.items,
      {
        topic: ({ name }) => name,
        title: ({ title }) => title,
        role: ({ role }) => role,
        devices: ({ devices }) => devices,
        users: ({ users }) => users,
      },
      options,
      page.next,
    );
  });
  topic
    .command('add')
    .description('make a topic, or change its title or role')
    .argument('<name>')
    .option('--title <text>')
    .option('--role <role>', 'only users with this role may follow it')
    .action(async (name: string, own: { title?: string; role?: string }, command: Command) => {
      const { options, client, params } = workplace(command);
      printItem(await client.call(operations.topics.put, { params: { ...params, topic: name }, body: own }), options);
    });
  topic
    .command('remove')
    .description('delete a topic; nobody follows it any more')
    .argument('<name>')
    .option('--yes', 'do not ask')
    .action(async (name: string, own: { yes?: boolean }, command: Command) => {
      const { options, client, params } = workplace(command);
      await confirm(`Deleting topic ${name}`, own.yes);
      await client.call(operations.topics.remove, { params: { ...params, topic: name } });
      note(`Topic ${name} is deleted.`, options);
    });
  for (const [verb, operation, does] of [
    ['follow', operations.topics.addFollowers, 'let devices or users follow a topic'],
    ['unfollow', operations.topics.removeFollowers, 'let them follow it no more'],
  ] as const)
    topic
      .command(verb)
      .description(does)
      .argument('<name>')
      .option('--device <ids>', 'comma-separated')
      .option('--user <ids>', 'comma-separated')
      .action(async (name: string, own: { device?: string; user?: string }, command: Command) => {
        const { options, client, params } = workplace(command);
        const body = { ...(own.device ? { devices: own.device.split(',') } : {}), ...(own.user ? { users: own.user.split(',') } : {}) };
        printItem(await client.call(operation, { params: { ...params, topic: name }, body }), options);
      });
}

export function addSmsCommands(program: Command): void {
  const sms = program.command('sms').description('short messages');
  sms
    .command('send')
    .description('send a short message to numbers, users, or followers of topics')
    .requiredOption('--text <text>')
    .option('--to <numbers>', 'comma-separated, with + and calling code')
    .option('--user <ids>', 'comma-separated')
    .option('--topic <names>', 'followers of any of them')
    .option('--preview', 'only show segments, whom it would reach, and the cost')
    .action(async (own: { text: string; to?: string; user?: string; topic?: string; preview?: boolean }, command: Command) => {
      const { options, client, params } = workplace(command);
      const audience = {
        ...(own.to ? { phones: own.to.split(',') } : {}),
        ...(own.user ? { users: own.user.split(',') } : {}),
        ...(own.topic ? { topics: { any: own.topic.split(',') } } : {}),
      };
      if (Object.keys(audience).length !== 1) throw new CommandError('For whom is it? Give one of --to, --user, --topic.', 2);
      const body = { way: 'sms' as const, body: own.text, audience };
      if (own.preview) return printPreview(await client.call(operations.notifications.previewManaged, { params, body }), options);
      const sent = await client.call(operations.notifications.sendManaged, { params, body });
      printStatus(sent, options);
      note(`See what becomes of it: orchard notify status ${sent.id}`, options);
    });
  listOptions(sms.command('inbox').description('short messages that came in')).action(async (own: ListOptions, command: Command) => {
    const { options, client, params } = workplace(command);
    const page = await client.call(operations.sms.inbox, { params, query: listQuery(own) });
    printList(
      page.items,
      {
        at: ({ at }) => moment(at),
        from: ({ sender }) => sender,
        to: ({ recipient }) => recipient,
        text: ({ text }) => text,
        asked: ({ asked }) => asked,
        user: ({ userId }) => userId,
      },
      options,
      page.next,
    );
  });
  addOptOutCommands(sms);
  listOptions(sms.command('opt-outs').description('numbers and addresses that want no messages, or want them again')).action(
    async (own: ListOptions, command: Command) => {
      const { options, client, params } = workplace(command);
      const page = await client.call(operations.sms.optOuts, { params, query: listQuery(own) });
      printList(
        page.items,
        {
          way: ({ way }) => way,
          address: ({ address }) => address,
          state: ({ state }) => state,
          because: ({ because }) => because,
          at: ({ at }) => moment(at),
        },
        options,
        page.next,
      );
    },
  );
}

/** The two wishes a number or address can have, noted by hand. */
function addOptOutCommands(sms: Command): void {
  for (const [verb, state, does] of [
    ['opt-out', 'out', 'note that a number or address wants no messages'],
    ['opt-in', 'in', 'note that it wants them again'],
  ] as const)
    sms
      .command(verb)
      .description(does)
      .argument('<number or address>')
      .requiredOption('--because <text>', 'who asked for it and how, such as "called on Monday"')
      .action(async (address: string, own: { because: string }, command: Command) => {
        const { options, client, params } = workplace(command);
        const way = address.includes('@') ? ('mail' as const) : ('sms' as const);
        const body = { state, because: own.because };
        printItem(await client.call(operations.sms.putOptOut, { params: { ...params, way, address }, body }), options);
      });
}

export function addChannelCommands(program: Command): void {
  const channel = program.command('channel').description('named streams of messages for connected clients');
  channel
    .command('list')
    .description('channels, and how many listen')
    .action(async (_own: object, command: Command) => {
      const { options, client, params } = workplace(command);
      const { items } = await client.call(operations.channels.list, { params });
      printList(
        items,
        {
          channel: ({ name }) => name,
          listening: ({ listening }) => listening,
          messages: ({ messages }) => messages,
          keeps: ({ keep }) => keep,
          listen: ({ rules }) => rules.listen,
          publish: ({ rules }) => rules.publish,
        },
        options,
      );
    });
  channel
    .command('add')
    .description('make a channel, or change its rules and how much it keeps')
    .argument('<name>')
    .option('--listen <cql2>', 'who may listen, such as "me(\'id\') IS NOT NULL"')
    .option('--publish <cql2>', 'who may publish')
    .option('--keep <n>', 'messages kept for those who come later')
    .action(async (name: string, own: { listen?: string; publish?: string; keep?: string }, command: Command) => {
      const { options, client, params } = workplace(command);
      const rules = { ...(own.listen ? { listen: own.listen } : {}), ...(own.publish ? { publish: own.publish } : {}) };
      const body = { ...(Object.keys(rules).length ? { rules } : {}), ...(own.keep ? { keep: Number(own.keep) } : {}) };
      printItem(await client.call(operations.channels.put, { params: { ...params, channel: name }, body }), options);
    });
  channel
    .command('show')
    .description('a channel with its latest messages and who listens')
    .argument('<name>')
    .action(async (name: string, _own: object, command: Command) => {
      const { options, client, params } = workplace(command);
      const { latest, presence, rules, ...rest } = await client.call(operations.channels.read, { params: { ...params, channel: name } });
      if (options.json) return printItem({ ...rest, rules, presence, latest }, options);
      printItem({ ...rest, ...rules, users: presence.users.map(({ userId }) => userId).join(' ') }, options);
      printList(
        latest,
        {
          number: ({ number }) => number,
          at: ({ at }) => moment(at),
          from: ({ sender }) => actorWords(sender),
          data: ({ data }) => JSON.stringify(data),
        },
        options,
      );
    });
  channel
    .command('publish')
    .description('publish a message on a channel')
    .argument('<name>')
    .requiredOption('--data <json>', 'what clients get; - for standard input')
    .option('--title <text>', 'with it, followers of the topic of that name who do not listen get a notification')
    .option('--body <text>', 'what that notification says besides')
    .action(async (name: string, own: { data: string; title?: string; body?: string }, command: Command) => {
      const { options, client, params } = workplace(command);
      const notify = own.title ? { notify: { title: own.title, ...(own.body ? { body: own.body } : {}) } } : {};
      const body = { data: await readObject(own.data), ...notify };
      printItem(await client.call(operations.channels.publishManaged, { params: { ...params, channel: name }, body }), options);
    });
  channel
    .command('remove')
    .description('delete a channel and its messages')
    .argument('<name>')
    .option('--yes', 'do not ask')
    .action(async (name: string, own: { yes?: boolean }, command: Command) => {
      const { options, client, params } = workplace(command);
      await confirm(`Deleting channel ${name}`, own.yes);
      await client.call(operations.channels.remove, { params: { ...params, channel: name } });
      note(`Channel ${name} is deleted.`, options);
    });
}

/** Prices, opt-out words, when unseen devices are retired. */
export function addMessagingCommands(program: Command): void {
  const messaging = program.command('messaging').description('settings for messages of the environment');
  messaging
    .command('show')
    .description('prices, opt-out words, when devices not seen are retired')
    .action(async (_own: object, command: Command) => {
      const { options, client, params } = workplace(command);
      printItem(await client.call(operations.sms.settings, { params }), options);
    });
  messaging
    .command('set')
    .description('change settings')
    .argument('<json>', 'such as {"retireAfterDays": 90}; - for standard input')
    .action(async (json: string, _own: object, command: Command) => {
      const { options, client, params } = workplace(command);
      printItem(await client.call(operations.sms.patchSettings, { params, body: await readObject(json) }), options);
    });
}

/** What the product tells the team. */
export function addNoticeCommands(program: Command): void {
  program
    .command('notice')
    .description('what the product tells the team')
    .command('list')
    .description('notices, the latest first')
    .action(async (_own: object, command: Command) => {
      const { options, client } = workplace(command);
      const { items } = await client.call(operations.notices.list, {});
      printList(
        items,
        {
          at: ({ at }) => moment(at),
          place: ({ app, environment }) => (app ? `${app}/${environment}` : ''),
          notice: ({ title }) => title,
          read: ({ read }) => (read ? 'yes' : ''),
        },
        options,
      );
    });
}
