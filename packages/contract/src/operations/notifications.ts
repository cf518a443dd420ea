import { z } from 'zod';
import {
  appData,
  deviceId,
  ENVIRONMENT,
  environmentParams,
  jsonObject,
  listQuery,
  nothing,
  operation,
  page,
  time,
  uuid,
} from '../common.js';
import { PLATFORMS, topicName } from './devices.js';

export const WAYS = ['push', 'sms', 'mail'] as const;
export type Way = (typeof WAYS)[number];

const topicList = z.array(topicName).min(1).max(50);
const audience = z
  .strictObject({
    everyone: z.literal(true).optional(),
    user: uuid.optional(),
    users: z.array(uuid).min(1).max(10_000).optional(),
    device: deviceId.optional(),
    devices: z.array(deviceId).min(1).max(10_000).optional(),
    topics: z
      .strictObject({ any: topicList.optional(), all: topicList.optional(), not: topicList.optional() })
      .refine((topics) => topics.any || topics.all || topics.not, 'At least one of any, all, not.')
      .optional(),
    filter: z.string().trim().min(1).max(4000).optional().describe('A condition over devices in CQL2'),
    notListening: topicName.optional().describe('With topics: only who does not listen on this channel now'),
    phones: z.array(z.string().max(40)).min(1).max(10_000).optional().describe('For SMS: numbers'),
    addresses: z.array(z.email()).min(1).max(10_000).optional().describe('For mail: addresses'),
  })
  .refine((said) => {
    const names = Object.keys(said).filter((name) => said[name as keyof typeof said] !== undefined);
    const whom = names.filter((name) => name !== 'notListening');
    if (whom.length < names.length && !whom.includes('topics')) return false;
    return whom.length === 1 || (whom.length === 2 && whom.includes('topics') && whom.includes('filter'));
  }, 'Exactly one of everyone, user, users, device, devices, topics, filter, phones, addresses; topics and filter may go together, and `notListening` with topics.')
  .describe('Whom it is for: `{"everyone":true}`, `{"topics":{"any":["ridge-weather"]}}`, `{"filter":"platform = \'ios\'"}`, …');
export type Audience = z.infer<typeof audience>;

const text = (most: number) => z.string().max(most);
const content = z.strictObject({
  title: z.string().trim().min(1, 'A title of at least one character.').max(200).optional(),
  body: text(2000).optional(),
  badge: z
    .union([z.int().min(0).max(9999), z.literal('+1')], 'Zero (clears the badge) or more, or "+1".')
    .optional()
    .describe('The number on the icon, or `+1` to add one'),
  sound: z
    .string()
    .regex(/^[A-Za-z0-9._-]{1,64}$/, 'Up to 64 letters, digits, ., _ or -.')
    .optional(),
  picture: text(1000)
    .refine((address) => address.startsWith('https://') || address.startsWith('{'), 'An https address.')
    .optional(),
  link: text(1000)
    .refine(
      (address) => /^[/{]/.test(address) || URL.canParse(address.replace(/\{[^}]*\}/g, 'x')),
      'An absolute URL, or a path that begins with /.',
    )
    .optional(),
  data: appData.optional(),
  category: z
    .string()
    .regex(/^[A-Za-z0-9._-]{1,64}$/, 'Up to 64 letters, digits, ., _ or -.')
    .optional(),
  buttons: z
    .array(z.strictObject({ id: z.string().regex(/^[A-Za-z0-9._-]{1,40}$/), title: z.string().trim().min(1).max(40) }))
    .max(4)
    .optional(),
  silent: z.boolean().optional().describe('Wakes the app without showing anything'),
  html: text(100_000).optional().describe('For mail: the message in HTML, beside the text of `body`'),
});
const tag = z
  .string()
  .regex(/^[A-Za-z]{2,8}(-[A-Za-z0-9]{1,8})*$/, 'A BCP 47 language tag, such as nb or pt-BR.')
  .max(35);
const contentSet = content.extend({
  platforms: z.partialRecord(z.enum(PLATFORMS), content).optional().describe('What differs on a platform'),
  locales: z.record(tag, content).optional().describe('What differs in a language'),
  overlays: z.record(z.string().max(40), jsonObject).optional().describe('Merged into what goes to a gateway of this name (RFC 7396)'),
  second: z
    .strictObject({ share: z.number().min(0.01).max(0.99), content })
    .optional()
    .describe('A comparison: the other content, and the share of devices that gets it'),
});
export type ContentInput = z.input<typeof contentSet>;

const clock = z.string().regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'A time of day, such as 22:00.');
const options = {
  way: z.enum(WAYS).default('push'),
  urgency: z.enum(['very-low', 'low', 'normal', 'high']).default('normal').describe('RFC 8030 section 5.3'),
  ttlS: z
    .int()
    .min(0)
    .max(2_419_200)
    .default(86_400)
    .describe('Seconds the network keeps it for a device that is away (RFC 8030 section 5.2)'),
  replaces: z
    .string()
    .regex(/^[A-Za-z0-9_-]{1,32}$/, 'Up to 32 letters, digits, _ or - (RFC 8030 section 5.4).')
    .optional()
    .describe('A waiting notification with the same name is replaced'),
  start: z
    .union([
      z.strictObject({ at: time }),
      z.strictObject({
        local: z.string().regex(/^\d{4}-\d{2}-\d{2}T([01]\d|2[0-3]):[0-5]\d$/, 'A wall-clock time, such as 2026-12-24T18:00.'),
      }),
    ])
    .optional()
    .describe('When: an instant, or a wall-clock time in each recipient’s zone'),
  perSecond: z.int().min(1).max(100_000).optional().describe('At most so many a second'),
  quiet: z.strictObject({ from: clock, to: clock }).optional().describe('Hours of each recipient’s day in which nothing is sent'),
  fallBack: z
    .strictObject({
      afterMin: z.int().min(1).max(10_080),
      way: z.enum(['sms', 'mail']),
      body: text(2000).optional().describe('What it says then; the body of the notification, if left out'),
    })
    .optional()
    .describe('Who has not received it after so many minutes gets it another way'),
};
const newNotification = contentSet.extend({
  ...options,
  audience,
  draft: z.boolean().optional().describe('Keep it without sending'),
});
export type NewNotification = z.output<typeof newNotification>;

export const NOTIFICATION_STATES = ['draft', 'scheduled', 'sending', 'done', 'stopped'] as const;
export const DELIVERY_STATES = ['queued', 'accepted', 'arrived', 'expired', 'failed', 'skipped'] as const;
export type DeliveryState = (typeof DELIVERY_STATES)[number];
const counts = z.object({
  total: z.int(),
  queued: z.int(),
  accepted: z.int().describe('Taken by the network; no word from the device yet'),
  arrived: z.int().describe('The device or phone has it'),
  expired: z.int(),
  failed: z.int(),
  skipped: z.int(),
  opened: z.int().describe('Of those, opened by the person'),
});
export type DeliveryCounts = z.infer<typeof counts>;

export const notification = contentSet
  .omit({ title: true })
  .extend({
    id: uuid,
    title: z.string().nullable(),
    way: z.enum(WAYS),
    state: z.enum(NOTIFICATION_STATES),
    audience,
    urgency: z.string(),
    ttlS: z.int(),
    replaces: z.string().nullable(),
    start: options.start,
    perSecond: options.perSecond,
    quiet: options.quiet,
    fallBack: options.fallBack,
    createdAt: time,
    createdBy: z.string().describe('The server key or member that sent it'),
    startAt: time.nullable(),
    startedAt: time.nullable(),
    doneAt: time.nullable(),
    spreading: z.boolean().describe('Deliveries are still being made for its audience'),
    deliveries: counts,
    groups: z
      .array(counts.extend({ platform: z.string(), variant: z.enum(['a', 'b']), way: z.enum(WAYS) }))
      .describe('The same by platform and group of a comparison'),
    reasons: z
      .array(z.object({ state: z.enum(DELIVERY_STATES), reason: z.string(), count: z.int() }))
      .describe('Why deliveries are waiting, failed or were skipped'),
  })
  .meta({ id: 'Notification' });
export type Notification = z.infer<typeof notification>;

export const delivery = z
  .object({
    target: z.string().describe('A device’s id, a phone number or a mail address'),
    way: z.enum(WAYS),
    deviceId: z.string().nullable(),
    userId: z.string().nullable(),
    platform: z.string(),
    gateway: z.string().nullable(),
    variant: z.enum(['a', 'b']),
    state: z.enum(DELIVERY_STATES),
    reason: z.string().nullable(),
    attempts: z.int(),
    answer: z.int().nullable().describe('The network’s latest status'),
    said: z.string().nullable().describe('The network’s own words'),
    messageId: z.string().nullable().describe('The network’s id of the message'),
    segments: z.int().nullable(),
    nextAttemptAt: time.nullable(),
    sentAt: time.nullable(),
    receivedAt: time.nullable(),
    openedAt: time.nullable(),
    updatedAt: time,
  })
  .meta({ id: 'Delivery' });
export type Delivery = z.infer<typeof delivery>;

export const audiencePreview = z
  .object({
    total: z.int().describe('Devices, numbers or addresses it is for'),
    reachable: z.int(),
    platforms: z.array(z.object({ platform: z.string(), gateway: z.string(), count: z.int() })),
    unreachable: z.array(z.object({ platform: z.string(), reason: z.string(), count: z.int() })),
    sizes: z
      .array(z.object({ gateway: z.string(), bytes: z.int(), mostBytes: z.int() }))
      .describe('How large the message is for each way out'),
    sms: z
      .object({
        encoding: z.enum(['gsm7', 'ucs2']),
        forcing: z.array(z.string()).describe('Letters outside the GSM alphabet, which force UCS-2'),
        segments: z.int(),
        messages: z.int(),
        cost: z.number().nullable(),
        currency: z.string().nullable(),
        unpriced: z.array(z.string()),
      })
      .nullable()
      .describe('For SMS: segments of one message, of all, and what they cost by the price list'),
  })
  .meta({ id: 'AudiencePreview' });
export type AudiencePreview = z.infer<typeof audiencePreview>;

const course = z.object({
  items: z.array(z.object({ at: time, sent: z.int(), arrived: z.int(), opened: z.int(), failed: z.int() })),
  stepS: z.int(),
});
const previewBody = contentSet.extend({ audience, way: options.way });

const one = z.object({ id: uuid });
const managed = environmentParams.extend({ id: uuid });
const send = { kind: 'server', scope: 'notify:send' } as const;
const read = { kind: 'server', scope: 'notify:read' } as const;
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const SENDING = ['not-found', 'message-too-large', 'audience-empty', 'malformed-filter', 'gateway-missing', 'key-reused'] as const;
const APP = '/app/v1/notifications';
const MANAGE = `${ENVIRONMENT}/notifications`;

/** The life of a notification: what turns it from one state into another. */
const turns = {
  start: 'Send a draft, or a scheduled one now',
  stop: 'Stop sending; what has not gone out waits',
  resume: 'Go on with a stopped one',
} as const;
const turn = (verb: keyof typeof turns) => ({
  [verb]: operation({
    id: `notifications.${verb}`,
    method: 'POST',
    path: `${APP}/{id}/${verb}`,
    summary: turns[verb],
    caller: send,
    params: one,
    reply: notification,
    problems: ['not-found', 'wrong-state'],
  }),
  [`${verb}Managed`]: operation({
    id: `notifications.${verb}Managed`,
    method: 'POST',
    path: `${MANAGE}/{id}/${verb}`,
    summary: turns[verb],
    caller: developer,
    params: managed,
    reply: notification,
    problems: ['not-found', 'wrong-state'],
  }),
});
type Turn<Params extends z.ZodObject> = ReturnType<typeof operation<typeof notification, Params>>;
type Turns = { [K in keyof typeof turns]: Turn<typeof one> } & { [K in keyof typeof turns as `${K}Managed`]: Turn<typeof managed> };

export const notificationOperations = {
  send: operation({
    id: 'notifications.send',
    method: 'POST',
    path: APP,
    summary: 'Send a notification, now or later, or keep it as a draft',
    caller: send,
    body: newNotification,
    status: 202,
    reply: notification,
    retrySafe: true,
    problems: [...SENDING],
  }),
  rewrite: operation({
    id: 'notifications.rewrite',
    method: 'PUT',
    path: `${APP}/{id}`,
    summary: 'Write a draft or a scheduled one anew; without `draft` it is sent, or scheduled',
    caller: send,
    params: one,
    body: newNotification,
    status: 202,
    reply: notification,
    problems: [...SENDING, 'wrong-state'],
  }),
  rewriteManaged: operation({
    id: 'notifications.rewriteManaged',
    method: 'PUT',
    path: `${MANAGE}/{id}`,
    summary: 'Write a draft or a scheduled one anew; without `draft` it is sent, or scheduled',
    caller: developer,
    params: managed,
    body: newNotification,
    status: 202,
    reply: notification,
    problems: [...SENDING, 'wrong-state'],
  }),
  preview: operation({
    id: 'notifications.preview',
    method: 'POST',
    path: `${APP}/preview`,
    summary: 'Whom a notification would reach, whom not and why, and how large it is',
    caller: send,
    body: previewBody,
    reply: audiencePreview,
    problems: [...SENDING],
  }),
  read: operation({
    id: 'notifications.read',
    method: 'GET',
    path: `${APP}/{id}`,
    summary: 'How a notification is getting on',
    caller: read,
    params: one,
    reply: notification,
    problems: ['not-found'],
  }),
  deliveries: operation({
    id: 'notifications.deliveries',
    method: 'GET',
    path: `${APP}/{id}/deliveries`,
    summary: 'Each delivery of a notification',
    caller: read,
    params: one,
    query: listQuery,
    reply: page(delivery),
    problems: ['not-found'],
  }),
  sendManaged: operation({
    id: 'notifications.sendManaged',
    method: 'POST',
    path: MANAGE,
    summary: 'Send a notification as a member',
    caller: developer,
    params: environmentParams,
    body: newNotification,
    status: 202,
    reply: notification,
    retrySafe: true,
    problems: [...SENDING],
  }),
  previewManaged: operation({
    id: 'notifications.previewManaged',
    method: 'POST',
    path: `${MANAGE}/preview`,
    summary: 'Whom a notification would reach, whom not and why, and how large it is',
    caller: viewer,
    params: environmentParams,
    body: previewBody,
    reply: audiencePreview,
    problems: [...SENDING],
  }),
  list: operation({
    id: 'notifications.list',
    method: 'GET',
    path: MANAGE,
    summary: 'Notifications, latest first',
    caller: viewer,
    params: environmentParams,
    query: listQuery,
    reply: page(notification),
  }),
  readManaged: operation({
    id: 'notifications.readManaged',
    method: 'GET',
    path: `${MANAGE}/{id}`,
    summary: 'How a notification is getting on',
    caller: viewer,
    params: managed,
    reply: notification,
    problems: ['not-found'],
  }),
  course: operation({
    id: 'notifications.course',
    method: 'GET',
    path: `${MANAGE}/{id}/course`,
    summary: 'What became of it over time: sent, arrived, opened and failed in each step',
    caller: viewer,
    params: managed,
    reply: course,
    problems: ['not-found'],
  }),
  deliveriesManaged: operation({
    id: 'notifications.deliveriesManaged',
    method: 'GET',
    path: `${MANAGE}/{id}/deliveries`,
    summary: 'Each delivery of a notification',
    caller: viewer,
    params: managed,
    query: listQuery,
    reply: page(delivery),
    problems: ['not-found'],
  }),
  remove: operation({
    id: 'notifications.remove',
    method: 'DELETE',
    path: `${MANAGE}/{id}`,
    summary: 'Throw a draft or a scheduled one away',
    caller: developer,
    params: managed,
    status: 204,
    reply: nothing,
    problems: ['not-found', 'wrong-state'],
  }),
  ...({ ...turn('start'), ...turn('stop'), ...turn('resume') } as unknown as Turns),
};
