import { z } from 'zod';
import { deviceId, ENVIRONMENT, environmentParams, listQuery, nothing, operation, page, time, timeZone, uuid } from '../common.js';

export const PLATFORMS = ['ios', 'android', 'web', 'desktop'] as const;
export const PERMISSIONS = ['granted', 'denied', 'unasked'] as const;
export const STAGES = ['trial', 'live'] as const;

/** The subscription of a user agent: its push resource (RFC 8030 section 4) and its keys (RFC 8291 section 3.1). */
const subscription = z.strictObject({
  endpoint: z.url({ protocol: /^https?$/, error: 'An absolute http(s) URL: the push resource of the subscription.' }).max(1000),
  keys: z.strictObject({
    p256dh: z
      .base64url()
      .refine(
        (text) => text.length === 87 && text.startsWith('B'),
        'An uncompressed P-256 point of 65 bytes in base64url (87 characters, beginning with B).',
      ),
    auth: z.base64url().refine((text) => text.length === 22, 'Sixteen bytes in base64url (22 characters).'),
  }),
  expirationTime: z.number().nullable().optional(),
});

const locale = z
  .string()
  .max(35)
  .refine((tag) => {
    try {
      return Intl.getCanonicalLocales(tag).length === 1;
    } catch {
      return false;
    }
  }, 'A BCP 47 language tag, such as nb-NO.');

const registration = z.strictObject({
  platform: z.enum(PLATFORMS),
  appVersion: z.string().max(40),
  os: z.string().max(80).describe('Name and version of the operating system'),
  manufacturer: z.string().max(80).optional(),
  model: z.string().max(80).optional(),
  locale,
  timeZone,
  permission: z.enum(PERMISSIONS).describe('Whether the person allowed notifications'),
  allows: z
    .strictObject({ alert: z.boolean(), sound: z.boolean(), badge: z.boolean() })
    .optional()
    .describe('What the person allows of a notification, where the system tells: to be shown, to be heard, a number on the icon'),
  country: z
    .string()
    .regex(/^[A-Z]{2}$/, 'Two capitals of ISO 3166-1, such as NO.')
    .optional(),
  region: z
    .string()
    .regex(/^[A-Z]{2}-[A-Z0-9]{1,3}$/, 'A code of ISO 3166-2, such as NO-46.')
    .optional()
    .describe('Part of the country, as the device has it'),
  badge: z.int().min(0).max(9999).optional().describe('The number on the app’s icon now'),
  subscription: subscription.nullable().optional().describe('Web push subscription; null or absent when there is none'),
  pushKey: z.string().max(100).optional().describe('The `applicationServerKey` of the subscription'),
  pushAddress: z
    .strictObject({
      token: z.string().trim().min(8, 'The address the push network gave the device: 8 characters or more.').max(1000),
      stage: z.enum(STAGES).optional().describe('trial: the build uses the network’s trial stage'),
    })
    .nullable()
    .optional()
    .describe('Its address at a push network other than web push'),
  pushTrouble: z.string().max(300).optional().describe('Why push could not be turned on: shown to the team'),
});

/** Names of topics and channels. */
export const topicName = z
  .string()
  .regex(/^[a-z0-9][a-z0-9._/-]{0,199}$/, 'A lower-case letter or digit, then up to 199 of a-z 0-9 . - _ /.');

export const device = z
  .object({
    id: deviceId,
    userId: uuid.nullable(),
    client: z.string().nullable().describe('The client that registered it'),
    platform: z.enum(PLATFORMS),
    appVersion: z.string(),
    pushTrouble: z.string().nullable().describe('Why push could not be turned on there, as the device says'),
    os: z.string(),
    manufacturer: z.string().nullable(),
    model: z.string().nullable(),
    locale: z.string(),
    timeZone: z.string(),
    country: z.string().nullable(),
    region: z.string().nullable(),
    permission: z.enum(PERMISSIONS),
    allows: z
      .object({ alert: z.boolean(), sound: z.boolean(), badge: z.boolean() })
      .describe('What the person allows of a notification; where the system does not tell, all that the permission gives'),
    badge: z.int(),
    gateway: z.string().nullable().describe('The gateway for notifications to it'),
    tokenStage: z.string().nullable().describe('The stage of its push address, if the app sent one'),
    reachable: z.boolean().describe('A notification sent now would go out to it'),
    reach: z.string().describe('Why it is reachable or not, in words'),
    pushOrigin: z.string().nullable().describe('Origin of its push network'),
    retiredAt: time.nullable(),
    retiredReason: z.string().nullable(),
    createdAt: time,
    updatedAt: time,
    lastSeenAt: time,
    secret: z.string().optional().describe('Only in the first response: later calls for the device send it as `Orchard-Device-Secret`'),
  })
  .meta({ id: 'Device' });
export type Device = z.infer<typeof device>;

/** What a device did with a notification. */
const report = z.strictObject({
  notification: uuid,
  event: z.enum(['received', 'opened']),
  button: z.string().max(60).optional().describe('With `opened`: which button the person chose'),
  at: time.optional().describe('When; now, if left out'),
});
const followed = z.object({ items: z.array(z.object({ topic: z.string(), via: z.enum(['device', 'user']), at: time })) });
export const deliveryToDevice = z
  .object({
    notification: uuid,
    title: z.string().nullable(),
    state: z.string(),
    reason: z.string().nullable(),
    gateway: z.string().nullable(),
    sentAt: time.nullable(),
    receivedAt: time.nullable(),
    openedAt: time.nullable(),
    updatedAt: time,
  })
  .meta({ id: 'DeliveryToDevice' });

/** The secret from the device's registration: without it, knowing an id gives no access. */
export const DEVICE_SECRET = 'Orchard-Device-Secret';

const one = z.object({ id: deviceId });
const oneTopic = z.object({ id: deviceId, topic: topicName });
const managed = environmentParams.extend({ device: deviceId });

export const deviceOperations = {
  put: operation({
    id: 'devices.put',
    hooked: { subject: 'devices', action: 'create', id: 'id', value: 'reply' },
    method: 'PUT',
    path: '/app/v1/devices/{id}',
    summary: 'Register a device or renew its registration; it belongs to the signed-in user, if any',
    caller: { kind: 'app', user: 'optional', scope: 'devices:write' },
    requestHeaders: [DEVICE_SECRET],
    params: one,
    body: registration,
    alsoStatus: 201,
    reply: device,
    problems: ['invalid-input', 'access-refused'],
  }),
  read: operation({
    id: 'devices.read',
    method: 'GET',
    path: '/app/v1/devices/{id}',
    summary: 'What the service knows about a device',
    caller: { kind: 'app', user: 'optional', scope: 'devices:read' },
    requestHeaders: [DEVICE_SECRET],
    params: one,
    reply: device,
    problems: ['not-found', 'access-refused'],
  }),
  remove: operation({
    id: 'devices.remove',
    hooked: { subject: 'devices', action: 'delete', id: 'id', value: 'body' },
    method: 'DELETE',
    path: '/app/v1/devices/{id}',
    summary: 'Retire a device: nothing is sent to it any more',
    caller: { kind: 'app', user: 'optional', scope: 'devices:write' },
    requestHeaders: [DEVICE_SECRET],
    params: one,
    status: 204,
    reply: nothing,
    problems: ['not-found', 'access-refused'],
  }),
  pushKey: operation({
    id: 'devices.pushKey',
    method: 'GET',
    path: '/app/v1/push-key',
    summary: 'The public key for web push subscriptions (RFC 8292 section 4.1)',
    caller: { kind: 'app', user: 'optional', scope: 'devices:read' },
    reply: z.object({ applicationServerKey: z.string() }),
  }),
  report: operation({
    id: 'devices.report',
    method: 'POST',
    path: '/app/v1/devices/{id}/reports',
    summary: 'Report that notifications were received or opened',
    caller: { kind: 'app', user: 'optional', scope: 'devices:write' },
    requestHeaders: [DEVICE_SECRET],
    params: one,
    body: z.strictObject({ items: z.array(report).min(1).max(200) }),
    reply: z.object({ noted: z.int().describe('How many reports were new') }),
    problems: ['not-found', 'access-refused'],
  }),
  topics: operation({
    id: 'devices.topics',
    method: 'GET',
    path: '/app/v1/devices/{id}/topics',
    summary: 'Topics a device follows, itself or through its user',
    caller: { kind: 'app', user: 'optional', scope: 'devices:read' },
    requestHeaders: [DEVICE_SECRET],
    params: one,
    reply: followed,
    problems: ['not-found', 'access-refused'],
  }),
  follow: operation({
    id: 'devices.follow',
    method: 'PUT',
    path: '/app/v1/devices/{id}/topics/{topic}',
    summary: 'Let a device follow a topic',
    caller: { kind: 'app', user: 'optional', scope: 'devices:write' },
    requestHeaders: [DEVICE_SECRET],
    params: oneTopic,
    status: 204,
    reply: nothing,
    problems: ['not-found', 'access-refused'],
  }),
  unfollow: operation({
    id: 'devices.unfollow',
    method: 'DELETE',
    path: '/app/v1/devices/{id}/topics/{topic}',
    summary: 'Stop a device from following a topic',
    caller: { kind: 'app', user: 'optional', scope: 'devices:write' },
    requestHeaders: [DEVICE_SECRET],
    params: oneTopic,
    status: 204,
    reply: nothing,
    problems: ['not-found', 'access-refused'],
  }),
  list: operation({
    id: 'devices.list',
    command: 'device list',
    method: 'GET',
    path: `${ENVIRONMENT}/devices`,
    summary: 'Devices of an environment',
    caller: { kind: 'member', role: 'viewer' },
    params: environmentParams,
    query: listQuery,
    reply: page(device),
  }),
  readManaged: operation({
    id: 'devices.readManaged',
    command: 'device show',
    method: 'GET',
    path: `${ENVIRONMENT}/devices/{device}`,
    summary: 'One device',
    caller: { kind: 'member', role: 'viewer' },
    params: managed,
    reply: device,
    problems: ['not-found'],
  }),
  topicsManaged: operation({
    id: 'devices.topicsManaged',
    method: 'GET',
    path: `${ENVIRONMENT}/devices/{device}/topics`,
    summary: 'Topics a device follows, itself or through its user',
    caller: { kind: 'member', role: 'viewer' },
    params: managed,
    reply: followed,
    problems: ['not-found'],
  }),
  deliveries: operation({
    id: 'devices.deliveries',
    command: 'device sent',
    method: 'GET',
    path: `${ENVIRONMENT}/devices/{device}/deliveries`,
    summary: 'Notifications sent to a device, latest first',
    caller: { kind: 'member', role: 'viewer' },
    params: managed,
    query: listQuery,
    reply: page(deliveryToDevice),
    problems: ['not-found'],
  }),
  patch: operation({
    id: 'devices.patch',
    changes: 'device',
    method: 'PATCH',
    path: `${ENVIRONMENT}/devices/{device}`,
    summary: 'Detach a device from its user, retire it, or restore it',
    caller: { kind: 'member', role: 'developer' },
    params: managed,
    body: z.strictObject({ userId: z.null().optional(), retired: z.boolean().optional() }),
    reply: device,
    problems: ['not-found'],
  }),
  removeManaged: operation({
    id: 'devices.removeManaged',
    hooked: { subject: 'devices', action: 'delete', id: 'device', value: 'body' },
    changes: 'device',
    command: 'device delete',
    method: 'DELETE',
    path: `${ENVIRONMENT}/devices/{device}`,
    summary: 'Forget a device',
    caller: { kind: 'member', role: 'maintainer' },
    params: managed,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
};
