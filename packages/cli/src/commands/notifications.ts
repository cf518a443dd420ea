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
import { CommandError, type GlobalOptions, workspace } from '../context.js';
import { addCall, addList } from '../declared.js';
import { moment, note, printItem } from '../output.js';
import { print } from '../surroundings.js';

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
      'No audience is given. Give one of --everyone, --user, --device, --topic, --filter, --to; --topic and --filter may go together.',
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
/** A preview takes content and audience, not the options of sending. */
function previewBody({ urgency, ttlS, replaces, start, perSecond, quiet, fallBack, draft, ...body }: Sending) {
  return body;
}

export function printPreview(seen: AudiencePreview, options: GlobalOptions): void {
  if (options.json) return printItem(seen, options);
  print(`${seen.reachable} of ${seen.total} reachable`);
  for (const { platform, gateway, count } of seen.platforms) print(`  ${count} ${platform} through ${gateway}`);
  if (seen.allowed)
    print(`  ${seen.allowed.alert} show it, ${seen.allowed.sound} sound it, ${seen.allowed.badge} put a number on the icon`);
  for (const { platform, reason, count } of seen.unreachable) print(`  ${count} ${platform} unreachable: ${reason}`);
  for (const { gateway, bytes, mostBytes } of seen.sizes) print(`  ${bytes} of ${mostBytes} bytes at ${gateway}`);
  if (!seen.sms) return;
  const { encoding, forcing, segments, messages, cost, currency, unpriced } = seen.sms;
  if (encoding === 'ucs2')
    print(`  ${forcing.join(' ')} not in the GSM alphabet: 70 characters a message, or 67 a segment, instead of 160 and 153`);
  print(
    `  ${segments} segment${segments === 1 ? '' : 's'} each, ${messages * segments} in all${cost === null ? '' : `, ${cost} ${currency ?? ''}`}`,
  );
  if (unpriced.length && cost !== null) print(`  no price is set for ${unpriced.join(', ')}`);
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
      print(
        `  ${way === 'push' ? platform : way}${sent.second ? `, content ${variant}` : ''}: ${of} in all, ${taken + got} accepted, ${got} arrived, ${seen} opened`,
      );
  for (const { state, reason, count } of sent.reasons) print(`  ${count} ${state}: ${reason}`);
}

const LOOK_EVERY_MS = 200;
const MOST_WAIT_MS = 30_000;
/** The state changes shortly after the last delivery; with a fallback, once that is over. */
const STATE_FOLLOWS_MS = 2_000;

/** Waits until no delivery that could go out at once is queued. */
async function settled(client: HttpClient, params: { app: string; environment: string; id: string }): Promise<Notification> {
  let idle = 0;
  for (let waited = 0; ; waited += LOOK_EVERY_MS) {
    const sent = await client.call(operations.notifications.readManaged, { params });
    const retried = sent.reasons.filter(({ state }) => state === 'queued').reduce((sum, { count }) => sum + count, 0);
    if (!sent.spreading && sent.deliveries.queued <= retried) idle += LOOK_EVERY_MS;
    const isOver = idle > 0 && (sent.state !== 'sending' || retried > 0 || sent.fallBack || idle > STATE_FOLLOWS_MS);
    if (isOver || waited > MOST_WAIT_MS) return sent;
    await sleep(LOOK_EVERY_MS);
  }
}

/** A send without any successful delivery has failed, even though the call succeeded. */
function demandSomeThrough({ id, deliveries: { total, accepted, arrived, failed, expired } }: Notification): void {
  if (total > 0 && accepted + arrived === 0 && failed + expired > 0)
    throw new CommandError(`No delivery succeeded: ${failed + expired} of ${total} failed. See \`orchard notify deliveries ${id}\`.`, 1);
}

const list = (value: string, before: string[] = []) => [...before, ...value.split(',')];
/** The options of the audience. */
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

export function addNotificationCommands(program: Command): void {
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
    .option('--ttl <seconds>', 'time to live at the push network')
    .option('--replaces <name>', 'a waiting notification with the same name')
    .option('--at <time>', 'when, such as 2026-12-24T18:00Z')
    .option('--local-at <time>', 'when, in each recipient’s time zone, such as 2026-12-24T18:00')
    .option('--per-second <n>', 'at most this many per second')
    .option('--quiet-hours <from-to>', 'hours of each recipient’s day in which nothing is sent, such as 22:00-07:00')
    .option('--fall-back <way:minutes>', 'another way for recipients who have not received it by then, such as sms:10')
    .option('--draft', 'save it without sending')
    .option('--kept <id>', 'replace this draft or scheduled notification instead of creating one')
    .option('--preview', 'only show the audience and size')
    .option('--wait', 'wait until it is sent')
    .action(async (own: SendOptions & { quietHours?: string }, command: Command) => {
      const { options, client, params } = workspace(command);
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
      else if (!own.wait) note(`Follow it with: orchard notify status ${sent.id}`, options);
    });
  for (const verb of ['start', 'stop', 'resume'] as const)
    addCall(program, operations.notifications[`${verb}Managed`], { print: printStatus });
  addCall(program, operations.notifications.readManaged, { about: 'status of a notification', print: printStatus });
  addList(program, operations.notifications.list, [
    'id',
    ['title', ({ title, body }) => title ?? body],
    'way',
    'state',
    ['at', ({ startedAt, startAt, createdAt }) => startedAt ?? startAt ?? createdAt],
    ...(['total', 'queued', 'accepted', 'arrived', 'opened', 'failed', 'skipped'] as const).map(
      (name) => [name, ({ deliveries }: Notification) => deliveries[name]] as const,
    ),
  ]);
  addList(program, operations.notifications.deliveriesManaged, [
    'target',
    'gateway',
    'platform',
    'state',
    'attempts',
    'answer',
    'said',
    'reason',
    'nextAttemptAt',
  ]);
}
