import { setTimeout as sleep } from 'node:timers/promises';
import { type HttpClient, type Notification, operations } from '@orchard/contract';
import type { Command } from 'commander';
import { readObject } from '../asking.js';
import { CommandError, type GlobalOptions, workplace } from '../context.js';
import { moment, note, printItem, printList } from '../output.js';
import { type ListOptions, listOptions, listQuery } from './people.js';

type SendOptions = {
  title: string;
  body?: string;
  badge?: string;
  sound?: string;
  link?: string;
  data?: string;
  everyone?: boolean;
  user?: string;
  device?: string;
  wait?: boolean;
};

function audienceOf({ everyone, user, device }: SendOptions) {
  if ([everyone, user, device].filter(Boolean).length !== 1)
    throw new CommandError('For whom is it? Give one of --everyone, --user <id>, --device <id>.', 2);
  return everyone ? { everyone: true as const } : user ? { user } : { device: device as string };
}

function printStatus(sent: Notification, options: GlobalOptions): void {
  if (options.json) return printItem(sent, options);
  const { total, queued, accepted, arrived, opened, expired, failed, skipped } = sent.deliveries;
  printItem(
    {
      notification: sent.id,
      title: sent.title,
      by: sent.createdBy,
      at: moment(sent.createdAt),
      state: sent.state,
      total,
      queued,
      accepted,
      arrived,
      opened,
      expired,
      failed,
      skipped,
    },
    options,
  );
  for (const { state, reason, count } of sent.reasons) console.log(`  ${count} ${state}: ${reason}`);
}

/** Waits until nothing is queued that could go out at once. */
async function settled(client: HttpClient, params: { app: string; environment: string; id: string }): Promise<Notification> {
  for (let waited = 0; ; waited += 200) {
    const sent = await client.call(operations.notifications.readManaged, { params });
    const retried = sent.reasons.filter(({ state }) => state === 'queued').reduce((sum, { count }) => sum + count, 0);
    if (sent.deliveries.queued <= retried || waited > 30_000) return sent;
    await sleep(200);
  }
}

export function addMessageCommands(program: Command): void {
  const notify = program.command('notify').description('notifications');
  notify
    .command('send')
    .description('send a notification')
    .requiredOption('--title <text>')
    .option('--body <text>')
    .option('--badge <n>', 'number on the icon; 0 clears it')
    .option('--sound <name>')
    .option('--link <url>')
    .option('--data <json>')
    .option('--everyone')
    .option('--user <id>')
    .option('--device <id>')
    .option('--wait', 'until it has gone out')
    .action(async (own: SendOptions, command: Command) => {
      const { options, client, params } = workplace(command);
      const { title, body, badge, sound, link, data } = own;
      const content = {
        title,
        ...(body ? { body } : {}),
        ...(badge === undefined ? {} : { badge: Number(badge) }),
        ...(sound ? { sound } : {}),
        ...(link ? { link } : {}),
        ...(data ? { data: await readObject(data) } : {}),
      };
      const sent = await client.call(operations.notifications.sendManaged, { params, body: { ...content, audience: audienceOf(own) } });
      printStatus(own.wait ? await settled(client, { ...params, id: sent.id }) : sent, options);
      if (!own.wait) note(`See what becomes of it: orchard notify status ${sent.id}`, options);
    });
  notify
    .command('status')
    .description('how a notification is getting on')
    .argument('<id>')
    .action(async (id: string, _own: object, command: Command) => {
      const { options, client, params } = workplace(command);
      printStatus(await client.call(operations.notifications.readManaged, { params: { ...params, id } }), options);
    });
  listOptions(notify.command('list').description('notifications, the latest first')).action(async (own: ListOptions, command: Command) => {
    const { options, client, params } = workplace(command);
    const page = await client.call(operations.notifications.list, { params, query: listQuery(own) });
    printList(
      page.items,
      {
        id: ({ id }) => id,
        title: ({ title }) => title,
        at: ({ createdAt }) => moment(createdAt),
        devices: ({ deliveries }) => deliveries.total,
        queued: ({ deliveries }) => deliveries.queued,
        accepted: ({ deliveries }) => deliveries.accepted,
        arrived: ({ deliveries }) => deliveries.arrived,
        opened: ({ deliveries }) => deliveries.opened,
        failed: ({ deliveries }) => deliveries.failed,
        skipped: ({ deliveries }) => deliveries.skipped,
      },
      options,
      page.next,
    );
  });
  listOptions(notify.command('deliveries').description('each delivery of a notification').argument('<id>')).action(
    async (id: string, own: ListOptions, command: Command) => {
      const { options, client, params } = workplace(command);
      const page = await client.call(operations.notifications.deliveriesManaged, {
        params: { ...params, id },
        query: listQuery(own),
      });
      printList(
        page.items,
        {
          device: ({ deviceId }) => deviceId,
          platform: ({ platform }) => platform,
          state: ({ state }) => state,
          attempts: ({ attempts }) => attempts,
          answer: ({ answer }) => answer,
          why: ({ reason }) => reason,
          next: ({ nextAttemptAt }) => moment(nextAttemptAt),
        },
        options,
        page.next,
      );
    },
  );
}
