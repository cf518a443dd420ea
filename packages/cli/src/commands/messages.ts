import { setTimeout as sleep } from 'node:timers/promises';
import {
  actorWords,
  type Audience,
  type AudiencePreview,
  type BodyInputOf,
  type HttpClient,
  type Notification,
  operations,
} from '@orchard/contract';
import { type Command, Option } from 'commander';
import { readObject } from '../asking.js';
import { CommandError, type GlobalOptions, workplace } from '../context.js';
import { moment, note, printItem, printList } from '../output.js';
import { type ListOptions, listOptions, listQuery } from './people.js';

type SendOptions = {
  title?: string;
  body?: string;
  badge?: string;
  sound?: string;
  picture?: string;
  link?: string;
  data?: string;
  content?: string;
  everyone?: boolean;
  user?: string[];
  device?: string[];
  topic?: string[];
  allTopics?: string[];
  notTopic?: string[];
  filter?: string;
  to?: string[];
  way?: 'push' | 'sms' | 'mail';
  urgency?: 'very-low' | 'low' | 'normal' | 'high';
  ttl?: string;
  replaces?: string;
  at?: string;
  localAt?: string;
  perSecond?: string;
  quiet?: string;
  fallBack?: string;
  draft?: boolean;
  kept?: string;
  preview?: boolean;
  wait?: boolean;
};

function audienceOf({ everyone, user, device, topic, allTopics, notTopic, filter, to, way }: SendOptions): Audience {
  const topics = topic || allTopics || notTopic ? { any: topic, all: allTopics, not: notTopic } : undefined;
  if (to && way !== 'sms' && way !== 'mail')
    throw new CommandError('--to names numbers or addresses: give --way sms or --way mail with it.', 2);
  const chosen = [everyone, user, device, topics, to].filter(Boolean).length;
  if (chosen > 1 || (chosen === 0 && !filter) || (filter && chosen === 1 && !topics))
    throw new CommandError(
      'For whom is it? Give one of --everyone, --user, --device, --topic, --filter, --to; --topic and --filter may go together.',
      2,
    );
  return {
    ...(everyone ? { everyone: true as const } : {}),
    ...(user ? { users: user } : {}),
    ...(device ? { devices: device } : {}),
    ...(topics ? { topics } : {}),
    ...(filter ? { filter } : {}),
    ...(to ? { [way === 'sms' ? 'phones' : 'addresses']: to } : {}),
  };
}

/** `22:00-07:00`. */
function quietOf(text: string | undefined) {
  if (!text) return undefined;
  const [from, to] = text.split('-');
  if (!from || !to) throw new CommandError('Quiet hours are two times of day, such as --quiet 22:00-07:00.', 2);
  return { from, to };
}

/** `sms:10`: by SMS after ten minutes. */
function fallBackOf(text: string | undefined) {
  if (!text) return undefined;
  const match = /^(sms|mail):(\d+)$/.exec(text);
  if (!match) throw new CommandError('A fall-back names the way and the minutes, such as --fall-back sms:10.', 2);
  return { way: match[1] as 'sms' | 'mail', afterMin: Number(match[2]) };
}

/** The notification a command describes; `--content` gives variants, buttons and overlays as JSON. */
async function bodyOf(own: SendOptions) {
  const { title, body, badge, sound, picture, link, data } = own;
  const quiet = quietOf(own.quiet);
  const fallBack = fallBackOf(own.fallBack);
  return {
    ...(own.content ? await readObject(own.content) : {}),
    ...(title ? { title } : {}),
    ...(body ? { body } : {}),
    ...(badge === undefined ? {} : { badge: badge === '+1' ? ('+1' as const) : Number(badge) }),
    ...(sound ? { sound } : {}),
    ...(picture ? { picture } : {}),
    ...(link ? { link } : {}),
    ...(data ? { data: await readObject(data) } : {}),
    ...(own.way ? { way: own.way } : {}),
    ...(own.urgency ? { urgency: own.urgency } : {}),
    ...(own.ttl ? { ttlS: Number(own.ttl) } : {}),
    ...(own.replaces ? { replaces: own.replaces } : {}),
    ...(own.at ? { start: { at: new Date(own.at).toISOString() } } : own.localAt ? { start: { local: own.localAt } } : {}),
    ...(own.perSecond ? { perSecond: Number(own.perSecond) } : {}),
    ...(quiet ? { quiet } : {}),
    ...(fallBack ? { fallBack } : {}),
    audience: audienceOf(own),
  };
}

type Sending = BodyInputOf<typeof operations.notifications.sendManaged>;
/** A preview takes what is said and to whom, not how it is sent. */
function previewBody({ urgency, ttlS, replaces, start, perSecond, quiet, fallBack, draft, ...body }: Sending) {
  return body;
}

export function printPreview(seen: AudiencePreview, options: GlobalOptions): void {
  if (options.json) return printItem(seen, options);
  console.log(`for ${seen.total}, reaches ${seen.reachable}`);
  for (const { platform, gateway, count } of seen.platforms) console.log(`  ${count} ${platform} through ${gateway}`);
  for (const { platform, reason, count } of seen.unreachable) console.log(`  ${count} ${platform} not: ${reason}`);
  for (const { gateway, bytes, mostBytes } of seen.sizes) console.log(`  ${bytes} of ${mostBytes} bytes at ${gateway}`);
  if (!seen.sms) return;
  const { encoding, forcing, segments, messages, cost, currency, unpriced } = seen.sms;
  if (encoding === 'ucs2')
    console.log(`  ${forcing.join(' ')} not in the GSM alphabet: 70 characters a message, or 67 a segment, instead of 160 and 153`);
  console.log(
    `  ${segments} segment${segments === 1 ? '' : 's'} each, ${messages * segments} in all${cost === null ? '' : `, ${cost} ${currency ?? ''}`}`,
  );
  if (unpriced.length && cost !== null) console.log(`  no price is set for ${unpriced.join(', ')}`);
}

export function printStatus(sent: Notification, options: GlobalOptions): void {
  if (options.json) return printItem(sent, options);
  const { total, queued, accepted, arrived, opened, expired, failed, skipped } = sent.deliveries;
  printItem(
    {
      notification: sent.id,
      title: sent.title ?? sent.body,
      by: actorWords(sent.createdBy),
      at: moment(sent.startedAt ?? sent.startAt ?? sent.createdAt),
      state: sent.state,
      total: sent.spreading ? `${total}, and counting` : total,
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
  if (sent.groups.length > 1)
    for (const { way, platform, variant, total: of, accepted: taken, arrived: got, opened: seen } of sent.groups)
      console.log(
        `  ${way === 'push' ? platform : way}${sent.second ? `, content ${variant}` : ''}: ${of} in all, ${taken + got} through, ${got} arrived, ${seen} opened`,
      );
  for (const { state, reason, count } of sent.reasons) console.log(`  ${count} ${state}: ${reason}`);
}

/** Waits until nothing is queued that could go out at once. */
async function settled(client: HttpClient, params: { app: string; environment: string; id: string }): Promise<Notification> {
  for (let waited = 0; ; waited += 200) {
    const sent = await client.call(operations.notifications.readManaged, { params });
    const retried = sent.reasons.filter(({ state }) => state === 'queued').reduce((sum, { count }) => sum + count, 0);
    if ((!sent.spreading && sent.deliveries.queued <= retried) || waited > 30_000) return sent;
    await sleep(200);
  }
}

/** A send of which nothing got through has failed, however well it was asked for. */
function demandSomeThrough({ id, deliveries: { total, accepted, arrived, failed, expired } }: Notification): void {
  if (total > 0 && accepted + arrived === 0 && failed + expired > 0)
    throw new CommandError(`Nothing got through: ${failed + expired} of ${total} failed. See \`orchard notify deliveries ${id}\`.`, 1);
}

const list = (value: string, before: string[] = []) => [...before, ...value.split(',')];
/** The options that say for whom. */
const audienceOptions = (command: Command): Command =>
  command
    .option('--everyone')
    .option('--user <ids>', 'comma-separated', list)
    .option('--device <ids>', 'comma-separated', list)
    .option('--topic <names>', 'followers of any of them', list)
    .option('--all-topics <names>', 'followers of all of them', list)
    .option('--not-topic <names>', 'but not their followers', list)
    .option('--filter <cql2>', 'devices, such as "platform = \'ios\'"')
    .option('--to <list>', 'numbers with --way sms, addresses with --way mail; comma-separated', list);

export function addMessageCommands(program: Command): void {
  const notify = program.command('notify').description('notifications');
  audienceOptions(notify.command('send').description('send a notification, now or later'))
    .option('--title <text>', 'may hold {user.name} and other variables')
    .option('--body <text>')
    .option('--badge <n>', 'number on the icon; 0 clears it, +1 adds one')
    .option('--sound <name>')
    .option('--picture <address>')
    .option('--link <url>')
    .option('--data <json>')
    .option('--content <json>', 'the rest: variants by platform and language, buttons, overlays; - for standard input')
    .addOption(new Option('--way <way>').choices(['push', 'sms', 'mail']))
    .addOption(new Option('--urgency <urgency>').choices(['very-low', 'low', 'normal', 'high']))
    .option('--ttl <seconds>', 'how long the network keeps it for a device that is away')
    .option('--replaces <name>', 'a waiting one of the same name')
    .option('--at <time>', 'when, such as 2026-12-24T18:00Z')
    .option('--local-at <time>', 'when, by each recipient’s clock, such as 2026-12-24T18:00')
    .option('--per-second <n>', 'at most so many')
    .option('--quiet-hours <from-to>', 'hours of each recipient’s day in which nothing is sent, such as 22:00-07:00')
    .option('--fall-back <way:minutes>', 'reach another way who has not received it by then, such as sms:10')
    .option('--draft', 'keep it without sending')
    .option('--kept <id>', 'write this draft or scheduled one anew, instead of a new one')
    .option('--preview', 'only show whom it would reach')
    .option('--wait', 'until it has gone out')
    .action(async (own: SendOptions & { quietHours?: string }, command: Command) => {
      const { options, client, params } = workplace(command);
      const body: Sending = await bodyOf({ ...own, quiet: own.quietHours } as SendOptions);
      if (own.preview) {
        return printPreview(await client.call(operations.notifications.previewManaged, { params, body: previewBody(body) }), options);
      }
      const whole: Sending = { ...body, ...(own.draft ? { draft: true } : {}) };
      const sent = own.kept
        ? await client.call(operations.notifications.rewriteManaged, { params: { ...params, id: own.kept }, body: whole })
        : await client.call(operations.notifications.sendManaged, { params, body: whole });
      const state = own.wait ? await settled(client, { ...params, id: sent.id }) : sent;
      printStatus(state, options);
      if (own.wait) demandSomeThrough(state);
      if (own.draft) note(`Send it with: orchard notify start ${sent.id}`, options);
      else if (!own.wait) note(`See what becomes of it: orchard notify status ${sent.id}`, options);
    });
  for (const [verb, does] of [
    ['start', 'send a draft, or a scheduled one now'],
    ['stop', 'stop sending; what has not gone out waits'],
    ['resume', 'go on with a stopped one'],
  ] as const)
    notify
      .command(verb)
      .description(does)
      .argument('<id>')
      .action(async (id: string, _own: object, command: Command) => {
        const { options, client, params } = workplace(command);
        printStatus(await client.call(operations.notifications[`${verb}Managed`], { params: { ...params, id } }), options);
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
        title: ({ title, body }) => title ?? body,
        way: ({ way }) => way,
        state: ({ state }) => state,
        at: ({ startedAt, startAt, createdAt }) => moment(startedAt ?? startAt ?? createdAt),
        total: ({ deliveries }) => deliveries.total,
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
          to: ({ target }) => target,
          gateway: ({ gateway }) => gateway,
          platform: ({ platform }) => platform,
          state: ({ state }) => state,
          attempts: ({ attempts }) => attempts,
          answer: ({ answer }) => answer,
          said: ({ said }) => said,
          why: ({ reason }) => reason,
          next: ({ nextAttemptAt }) => moment(nextAttemptAt),
        },
        options,
        page.next,
      );
    },
  );
}
