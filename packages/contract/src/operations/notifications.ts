import { z } from 'zod';
import { appData, deviceId, ENVIRONMENT, environmentParams, listQuery, operation, page, time, uuid } from '../common.js';

const audience = z
  .union([z.strictObject({ everyone: z.literal(true) }), z.strictObject({ user: uuid }), z.strictObject({ device: deviceId })])
  .describe('Exactly one of: `{"everyone":true}`, `{"user":"<id>"}`, `{"device":"<id>"}`');
export type Audience = z.infer<typeof audience>;

const content = {
  title: z.string().trim().min(1, 'A title of at least one character.').max(200),
  body: z.string().max(2000).optional(),
  badge: z.int().min(0, 'Zero (clears the badge) or more.').max(9999).optional(),
  sound: z
    .string()
    .regex(/^[A-Za-z0-9._-]{1,64}$/, 'Up to 64 letters, digits, ., _ or -.')
    .optional(),
  link: z
    .string()
    .max(1000)
    .refine((text) => text.startsWith('/') || URL.canParse(text), 'An absolute URL, or a path that begins with /.')
    .optional(),
  data: appData.optional(),
};

const newNotification = z.strictObject({
  ...content,
  audience,
  urgency: z.enum(['very-low', 'low', 'normal', 'high']).default('normal').describe('RFC 8030 section 5.3'),
  ttlS: z
    .int()
    .min(0)
    .max(2_419_200)
    .default(86_400)
    .describe('Seconds the push network keeps it for a device that is away (RFC 8030 section 5.2)'),
  replaces: z
    .string()
    .regex(/^[A-Za-z0-9_-]{1,32}$/, 'Up to 32 letters, digits, _ or - (RFC 8030 section 5.4).')
    .optional()
    .describe('A waiting notification with the same name is replaced'),
});
export type NewNotification = z.infer<typeof newNotification>;

export const DELIVERY_STATES = ['queued', 'sent', 'failed', 'skipped'] as const;
export const notification = z
  .object({
    id: uuid,
    ...content,
    audience,
    urgency: z.string(),
    ttlS: z.int(),
    replaces: z.string().nullable(),
    createdAt: time,
    createdBy: z.string().describe('The server key or member that sent it'),
    deliveries: z.object({ total: z.int(), queued: z.int(), sent: z.int(), failed: z.int(), skipped: z.int() }),
    reasons: z
      .array(z.object({ state: z.enum(DELIVERY_STATES), reason: z.string(), count: z.int() }))
      .describe('Why deliveries are waiting, failed or were skipped'),
  })
  .meta({ id: 'Notification' });
export type Notification = z.infer<typeof notification>;

export const delivery = z
  .object({
    deviceId: z.string(),
    userId: z.string().nullable(),
    platform: z.string(),
    state: z.enum(DELIVERY_STATES),
    reason: z.string().nullable(),
    attempts: z.int(),
    answer: z.int().nullable().describe('The push network’s latest status'),
    nextAttemptAt: time.nullable(),
    updatedAt: time,
  })
  .meta({ id: 'Delivery' });
export type Delivery = z.infer<typeof delivery>;

const one = z.object({ id: uuid });
const managed = environmentParams.extend({ id: uuid });
const send = { kind: 'server', scope: 'notify:send' } as const;
const read = { kind: 'server', scope: 'notify:read' } as const;
const viewer = { kind: 'member', role: 'viewer' } as const;

export const notificationOperations = {
  send: operation({
    id: 'notifications.send',
    method: 'POST',
    path: '/app/v1/notifications',
    summary: 'Send a notification to everyone, one user or one device',
    caller: send,
    body: newNotification,
    status: 202,
    reply: notification,
    problems: ['not-found', 'message-too-large'],
  }),
  read: operation({
    id: 'notifications.read',
    method: 'GET',
    path: '/app/v1/notifications/{id}',
    summary: 'How a notification is getting on',
    caller: read,
    params: one,
    reply: notification,
    problems: ['not-found'],
  }),
  deliveries: operation({
    id: 'notifications.deliveries',
    method: 'GET',
    path: '/app/v1/notifications/{id}/deliveries',
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
    path: `${ENVIRONMENT}/notifications`,
    summary: 'Send a notification as a member',
    caller: { kind: 'member', role: 'developer' },
    params: environmentParams,
    body: newNotification,
    status: 202,
    reply: notification,
    problems: ['not-found', 'message-too-large'],
  }),
  list: operation({
    id: 'notifications.list',
    method: 'GET',
    path: `${ENVIRONMENT}/notifications`,
    summary: 'Notifications, latest first',
    caller: viewer,
    params: environmentParams,
    query: listQuery,
    reply: page(notification),
  }),
  readManaged: operation({
    id: 'notifications.readManaged',
    method: 'GET',
    path: `${ENVIRONMENT}/notifications/{id}`,
    summary: 'How a notification is getting on',
    caller: viewer,
    params: managed,
    reply: notification,
    problems: ['not-found'],
  }),
  deliveriesManaged: operation({
    id: 'notifications.deliveriesManaged',
    method: 'GET',
    path: `${ENVIRONMENT}/notifications/{id}/deliveries`,
    summary: 'Each delivery of a notification',
    caller: viewer,
    params: managed,
    query: listQuery,
    reply: page(delivery),
    problems: ['not-found'],
  }),
};
