import { z } from 'zod';
import { deviceId, ENVIRONMENT, environmentParams, listQuery, nothing, operation, page, time, uuid } from '../common.js';

export const PLATFORMS = ['ios', 'android', 'web', 'desktop'] as const;
export const PERMISSIONS = ['granted', 'denied', 'unasked'] as const;

/** The subscription of a user agent: its push resource (RFC 8030 section 4) and its keys (RFC 8291 section 3.1). */
const subscription = z.strictObject({
  endpoint: z.url({ protocol: /^https?$/, error: 'An absolute http(s) URL: the push resource of the subscription.' }).max(1000),
  keys: z.strictObject({
    p256dh: z
      .base64url()
      .refine(
        (text) => text.length === 87 && text.startsWith('B'),
        'An uncompressed P-256 point of 65 bytes in base64url (87 letters, beginning with B).',
      ),
    auth: z.base64url().refine((text) => text.length === 22, 'Sixteen bytes in base64url (22 letters).'),
  }),
  expirationTime: z.number().nullable().optional(),
});

const timeZone = z
  .string()
  .max(64)
  .refine((name) => {
    try {
      return Boolean(new Intl.DateTimeFormat('en', { timeZone: name }));
    } catch {
      return false;
    }
  }, 'A name of the time zone database, such as Europe/Oslo.');
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
  model: z.string().max(80).optional(),
  locale,
  timeZone,
  permission: z.enum(PERMISSIONS).describe('Whether the person allowed notifications'),
  subscription: subscription.nullable().optional().describe('Web push subscription; null or absent when there is none'),
});

export const device = z
  .object({
    id: deviceId,
    userId: uuid.nullable(),
    client: z.string().nullable().describe('The client that registered it'),
    platform: z.enum(PLATFORMS),
    appVersion: z.string(),
    os: z.string(),
    model: z.string().nullable(),
    locale: z.string(),
    timeZone: z.string(),
    permission: z.enum(PERMISSIONS),
    reachable: z.boolean().describe('A notification sent now would go out to it'),
    reach: z.string().describe('Why it is reachable or not, in words'),
    pushOrigin: z.string().nullable().describe('Origin of its push network'),
    retiredAt: time.nullable(),
    retiredReason: z.string().nullable(),
    createdAt: time,
    updatedAt: time,
    lastSeenAt: time,
  })
  .meta({ id: 'Device' });
export type Device = z.infer<typeof device>;

const one = z.object({ id: deviceId });
const managed = environmentParams.extend({ device: deviceId });

export const deviceOperations = {
  put: operation({
    id: 'devices.put',
    method: 'PUT',
    path: '/app/v1/devices/{id}',
    summary: 'Register a device or renew its registration; it belongs to the signed-in user, or to nobody',
    caller: { kind: 'app', user: 'optional', scope: 'devices:write' },
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
    params: one,
    reply: device,
    problems: ['not-found', 'access-refused'],
  }),
  remove: operation({
    id: 'devices.remove',
    method: 'DELETE',
    path: '/app/v1/devices/{id}',
    summary: 'Retire a device: nothing is sent to it any more',
    caller: { kind: 'app', user: 'optional', scope: 'devices:write' },
    params: one,
    status: 204,
    reply: nothing,
    problems: ['not-found', 'access-refused'],
  }),
  pushKey: operation({
    id: 'devices.pushKey',
    method: 'GET',
    path: '/app/v1/push-key',
    summary: 'The public key a web push subscription is made with (RFC 8292 section 4.1)',
    caller: { kind: 'app', user: 'optional', scope: 'devices:read' },
    reply: z.object({ applicationServerKey: z.string() }),
  }),
  list: operation({
    id: 'devices.list',
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
    method: 'GET',
    path: `${ENVIRONMENT}/devices/{device}`,
    summary: 'One device',
    caller: { kind: 'member', role: 'viewer' },
    params: managed,
    reply: device,
    problems: ['not-found'],
  }),
  patch: operation({
    id: 'devices.patch',
    method: 'PATCH',
    path: `${ENVIRONMENT}/devices/{device}`,
    summary: 'Detach a device from its user, or retire it, or bring it back',
    caller: { kind: 'member', role: 'developer' },
    params: managed,
    body: z.strictObject({ userId: z.null().optional(), retired: z.boolean().optional() }),
    reply: device,
    problems: ['not-found'],
  }),
  removeManaged: operation({
    id: 'devices.removeManaged',
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
