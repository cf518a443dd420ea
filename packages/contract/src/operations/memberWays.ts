import { z } from 'zod';
import { email, nothing, operation, slug, time } from '../common.js';
import { changedGateway, gateway, gatewayCheck, newInstallationGateway } from './gateways.js';

export const MEMBER_WAYS = ['mail', 'sms', 'browser'] as const;
export type MemberWayKind = (typeof MEMBER_WAYS)[number];

const clock = z.string().regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'A time of the day, such as 22:00.');
export const timeZone = z
  .string()
  .max(60)
  .refine((name) => {
    try {
      return Boolean(new Intl.DateTimeFormat('en', { timeZone: name }));
    } catch {
      return false;
    }
  }, 'A time zone of IANA, such as Europe/Oslo.');
const quiet = z.strictObject({ from: clock, to: clock }).nullable().describe('Over midnight when `from` is later; null for none');
const way = z
  .object({
    id: z.string(),
    kind: z.enum(MEMBER_WAYS),
    name: z.string().describe('A mail address, a phone number, or what the browser is called'),
    verified: z.boolean().describe('A way counts once it is verified'),
    quiet,
    timeZone,
    urgentAnyway: z.boolean().describe('Whether urgent messages come during quiet hours too'),
    lastSentAt: time.nullable(),
    lastFailure: z.string().nullable().describe('Why the latest message did not get through'),
    createdAt: time,
  })
  .meta({ id: 'MemberWay' });
export type MemberWay = z.infer<typeof way>;

export const MESSAGE_STATES = ['waiting', 'sent', 'failed'] as const;
const message = z
  .object({
    id: z.string(),
    way: z.enum(MEMBER_WAYS),
    title: z.string(),
    body: z.string(),
    link: z.string().nullable().describe('A path of the console'),
    urgent: z.boolean(),
    state: z.enum(MESSAGE_STATES),
    reason: z.string().nullable().describe('Why it waits or failed'),
    createdAt: time,
    sentAt: time.nullable(),
  })
  .meta({ id: 'MemberMessage' });
export type MemberMessage = z.infer<typeof message>;

const person = { kind: 'member', role: 'viewer', person: true } as const;
const owner = { kind: 'member', role: 'owner', person: true } as const;
const one = z.object({ way: z.string().max(64) });
const oneGateway = z.object({ gateway: slug });
const BASE = '/manage/v1/ways';
const GATEWAYS = '/manage/v1/gateways';

/** How members are reached, and the gateways of the installation that reach them. */
export const memberWayOperations = {
  list: operation({
    id: 'ways.list',
    command: 'way list',
    method: 'GET',
    path: BASE,
    summary: 'How you can be reached',
    caller: person,
    reply: z.object({
      items: z.array(way),
      missing: z
        .object({ mail: z.string().nullable(), sms: z.string().nullable(), browser: z.string().nullable() })
        .describe('For each kind: what the installation lacks for it; null where it can be used'),
    }),
  }),
  add: operation({
    id: 'ways.add',
    changes: 'member',
    rate: 'sign-in',
    method: 'POST',
    path: BASE,
    summary: 'Add a way; a code is sent to a mail address or phone number, also again for one that is not verified yet',
    caller: person,
    body: z.discriminatedUnion('kind', [
      z.strictObject({ kind: z.literal('mail'), address: email, timeZone: timeZone.optional() }),
      z.strictObject({
        kind: z.literal('sms'),
        number: z.string().max(30).describe('E.164, such as +15550100'),
        timeZone: timeZone.optional(),
      }),
      z.strictObject({
        kind: z.literal('browser'),
        name: z.string().trim().min(1).max(100),
        timeZone: timeZone.optional(),
        subscription: z
          .object({ endpoint: z.url().max(1000), keys: z.object({ p256dh: z.string().max(100), auth: z.string().max(40) }) })
          .describe('PushSubscription.toJSON() (Push API)'),
        pushKey: z.string().max(200).describe('The key it was made with'),
      }),
    ]),
    status: 201,
    reply: way,
    problems: ['gateway-missing', 'rate-exceeded', 'invalid-input', 'already-exists'],
  }),
  verify: operation({
    id: 'ways.verify',
    changes: 'member',
    rate: 'sign-in',
    command: 'way verify <code>',
    method: 'POST',
    path: `${BASE}/{way}/codes`,
    summary: 'Verify a way with the code that was sent there',
    caller: person,
    params: one,
    body: z.strictObject({ code: z.string().max(20) }),
    reply: way,
    problems: ['not-found', 'code-refused', 'wrong-state'],
  }),
  patch: operation({
    id: 'ways.patch',
    changes: 'member',
    method: 'PATCH',
    path: `${BASE}/{way}`,
    summary: 'Set quiet hours, and whether urgent messages come then too',
    caller: person,
    params: one,
    body: z.strictObject({ quiet: quiet.optional(), timeZone: timeZone.optional(), urgentAnyway: z.boolean().optional() }),
    reply: way,
    problems: ['not-found'],
  }),
  remove: operation({
    id: 'ways.remove',
    changes: 'member',
    command: 'way remove',
    method: 'DELETE',
    path: `${BASE}/{way}`,
    summary: 'Remove a way',
    caller: person,
    params: one,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  test: operation({
    id: 'ways.test',
    changes: 'nothing',
    rate: 'sign-in',
    command: 'way test',
    method: 'POST',
    path: `${BASE}/{way}/tests`,
    summary: 'Send a test message now, regardless of quiet hours',
    caller: person,
    params: one,
    reply: message,
    problems: ['not-found', 'wrong-state', 'gateway-missing'],
  }),
  messages: operation({
    id: 'ways.messages',
    command: 'way messages',
    method: 'GET',
    path: '/manage/v1/member-messages',
    summary: 'The latest messages to you, and what became of each',
    caller: person,
    reply: z.object({ items: z.array(message) }),
  }),
  pushKey: operation({
    id: 'ways.pushKey',
    method: 'GET',
    path: '/manage/v1/push-key',
    summary: '`applicationServerKey` for a push subscription of this console',
    caller: person,
    reply: z.object({ applicationServerKey: z.string() }),
  }),
  gateways: operation({
    id: 'installationGateways.list',
    command: 'installation-gateway list',
    method: 'GET',
    path: GATEWAYS,
    summary: 'Gateways of the installation, which reach members, with what each is missing',
    caller: owner,
    reply: z.object({ items: z.array(gateway) }),
  }),
  addGateway: operation({
    id: 'installationGateways.create',
    changes: 'installation gateway',
    command: 'installation-gateway add <json>',
    method: 'POST',
    path: GATEWAYS,
    summary: 'Add a gateway of the installation, for mail or SMS',
    caller: owner,
    body: newInstallationGateway,
    status: 201,
    reply: gateway,
    problems: ['already-exists', 'credential-refused', 'mapping-refused'],
  }),
  patchGateway: operation({
    id: 'installationGateways.patch',
    changes: 'installation gateway',
    method: 'PATCH',
    path: `${GATEWAYS}/{gateway}`,
    summary: 'Change settings or credential of a gateway of the installation',
    caller: owner,
    params: oneGateway,
    body: changedGateway,
    reply: gateway,
    problems: ['not-found', 'credential-refused'],
  }),
  removeGateway: operation({
    id: 'installationGateways.remove',
    changes: 'installation gateway',
    command: 'installation-gateway remove',
    method: 'DELETE',
    path: `${GATEWAYS}/{gateway}`,
    summary: 'Remove a gateway of the installation and its credential',
    caller: owner,
    params: oneGateway,
    status: 204,
    reply: nothing,
    problems: ['not-found', 'wrong-state'],
  }),
  checkGateway: operation({
    id: 'installationGateways.check',
    changes: 'nothing',
    command: 'installation-gateway check',
    method: 'POST',
    path: `${GATEWAYS}/{gateway}/check`,
    summary: 'Check a gateway of the installation without sending anything',
    caller: owner,
    params: oneGateway,
    reply: gatewayCheck,
    problems: ['not-found'],
  }),
};
