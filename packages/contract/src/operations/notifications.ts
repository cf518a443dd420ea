import { z } from 'zod';
import { ENVIRONMENT, actor, environmentParams, forMembers, listQuery, nothing, operation, page, time, uuid } from '../common.js';
import { audience, contentSet, newNotification, options, WAYS } from './newNotification.js';

export const NOTIFICATION_STATES = ['draft', 'scheduled', 'sending', 'done', 'stopped'] as const;
export const DELIVERY_STATES = ['queued', 'accepted', 'arrived', 'expired', 'failed', 'skipped'] as const;
export type DeliveryState = (typeof DELIVERY_STATES)[number];
const counts = z.object({
  total: z.int(),
  queued: z.int(),
  accepted: z.int().describe('Accepted by the network; not confirmed by the device yet'),
  arrived: z.int().describe('Received by the device or phone'),
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
    createdBy: actor,
    startAt: time.nullable(),
    startedAt: time.nullable(),
    doneAt: time.nullable(),
    spreading: z.boolean().describe('Deliveries are still being created for its audience'),
    deliveries: counts,
    groups: z
      .array(counts.extend({ platform: z.string(), variant: z.enum(['a', 'b']), way: z.enum(WAYS) }))
      .describe('The same by platform and group of a comparison'),
    reasons: z
      .array(z.object({ state: z.enum(DELIVERY_STATES), reason: z.string(), count: z.int() }))
      .describe('Why deliveries are waiting, failed or were skipped'),
    chosen: z
      .array(z.object({ button: z.string(), count: z.int() }))
      .optional()
      .describe('Which buttons people chose; of one notification, not in lists'),
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
    said: z.string().nullable().describe('The network’s message'),
    messageId: z.string().nullable().describe('The network’s id of the message'),
    segments: z.int().nullable(),
    nextAttemptAt: time.nullable(),
    sentAt: time.nullable(),
    receivedAt: time.nullable(),
    openedAt: time.nullable(),
    button: z.string().nullable().describe('The button that the person chose'),
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
    allowed: z
      .object({ alert: z.int(), sound: z.int(), badge: z.int() })
      .nullable()
      .describe('For push: of the reachable devices, how many show it, sound it, and put a number on the icon'),
    sizes: z.array(z.object({ gateway: z.string(), bytes: z.int(), mostBytes: z.int() })).describe('Size of the message for each gateway'),
    behaviourAt: time.nullable().describe('When people were counted by what they did, where the filter asks for that'),
    sms: z
      .object({
        encoding: z.enum(['gsm7', 'ucs2']),
        forcing: z.array(z.string()).describe('Characters outside the GSM alphabet, which force UCS-2'),
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

/** A call that turns a notification from one state into another. */
const turn = (verb: 'start' | 'stop' | 'resume', summary: string) =>
  operation({
    id: `notifications.${verb}`,
    changes: 'notification',
    command: `notify ${verb}`,
    method: 'POST',
    path: `${APP}/{id}/${verb}`,
    summary,
    caller: send,
    params: one,
    reply: notification,
    problems: ['not-found', 'wrong-state'],
  });

const forServers = {
  send: operation({
    id: 'notifications.send',
    hooked: { subject: 'notifications', action: 'create', value: 'reply' },
    changes: 'notification',
    method: 'POST',
    path: APP,
    summary: 'Send a notification, now or later, or save it as a draft',
    caller: send,
    body: newNotification,
    status: 202,
    reply: notification,
    retrySafe: true,
    problems: [...SENDING],
  }),
  rewrite: operation({
    id: 'notifications.rewrite',
    changes: 'notification',
    method: 'PUT',
    path: `${APP}/{id}`,
    summary: 'Replace a draft or scheduled notification; without `draft` it is sent or scheduled',
    caller: send,
    params: one,
    body: newNotification,
    status: 202,
    reply: notification,
    problems: [...SENDING, 'wrong-state'],
  }),
  preview: operation({
    id: 'notifications.preview',
    changes: 'nothing',
    method: 'POST',
    path: `${APP}/preview`,
    summary: 'Who would receive a notification, who would not and why, and its size',
    caller: send,
    body: previewBody,
    reply: audiencePreview,
    problems: [...SENDING],
  }),
  read: operation({
    id: 'notifications.read',
    command: 'notify status',
    method: 'GET',
    path: `${APP}/{id}`,
    summary: 'Status of a notification',
    caller: read,
    params: one,
    reply: notification,
    problems: ['not-found'],
  }),
  deliveries: operation({
    id: 'notifications.deliveries',
    command: 'notify deliveries',
    method: 'GET',
    path: `${APP}/{id}/deliveries`,
    summary: 'Each delivery of a notification',
    caller: read,
    params: one,
    query: listQuery,
    reply: page(delivery),
    problems: ['not-found'],
  }),
  start: turn('start', 'Send a draft or a scheduled notification now'),
  stop: turn('stop', 'Stop sending; unsent deliveries wait'),
  resume: turn('resume', 'Resume a stopped notification'),
};

export const notificationOperations = {
  ...forServers,
  sendManaged: forMembers(forServers.send, 'developer', 'Send a notification as a member'),
  rewriteManaged: forMembers(forServers.rewrite, 'developer'),
  previewManaged: forMembers(forServers.preview, 'viewer'),
  readManaged: forMembers(forServers.read, 'viewer'),
  deliveriesManaged: forMembers(forServers.deliveries, 'viewer'),
  startManaged: forMembers(forServers.start, 'developer'),
  stopManaged: forMembers(forServers.stop, 'developer'),
  resumeManaged: forMembers(forServers.resume, 'developer'),
  list: operation({
    id: 'notifications.list',
    command: 'notify list',
    method: 'GET',
    path: MANAGE,
    summary: 'Notifications, latest first',
    caller: viewer,
    params: environmentParams,
    query: listQuery,
    reply: page(notification),
  }),
  course: operation({
    id: 'notifications.course',
    method: 'GET',
    path: `${MANAGE}/{id}/course`,
    summary: 'Its progress over time: sent, arrived, opened and failed in each step',
    caller: viewer,
    params: managed,
    reply: course,
    problems: ['not-found'],
  }),
  remove: operation({
    id: 'notifications.remove',
    changes: 'notification',
    method: 'DELETE',
    path: `${MANAGE}/{id}`,
    summary: 'Delete a draft or a scheduled notification',
    caller: developer,
    params: managed,
    status: 204,
    reply: nothing,
    problems: ['not-found', 'wrong-state'],
  }),
};
