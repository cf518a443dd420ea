import { z } from 'zod';
import { ENVIRONMENT, environmentParams, listQuery, nothing, operation, page, time } from '../common.js';

export const incomingSms = z
  .object({
    id: z.string(),
    gateway: z.string(),
    sender: z.string(),
    recipient: z.string(),
    text: z.string(),
    asked: z.enum(['out', 'in']).nullable().describe('Whether it opted out or in'),
    userId: z.string().nullable().describe('The user whose number it came from'),
    at: time,
  })
  .meta({ id: 'IncomingSms' });
export type IncomingSms = z.infer<typeof incomingSms>;

export const optOut = z
  .object({ way: z.enum(['sms', 'mail']), address: z.string(), state: z.enum(['out', 'in']), because: z.string(), at: time })
  .meta({ id: 'OptOut' });
export type OptOut = z.infer<typeof optOut>;

const words = z.array(z.string().trim().min(1).max(40)).max(100);
const country = z.string().regex(/^[A-Z]{2}$/, 'Two capitals of ISO 3166-1, such as NO.');
export const messaging = z
  .object({
    retireAfterDays: z.int().describe('Retire devices not seen for this many days; 0: never'),
    prices: z.record(country, z.number()).describe('What a segment costs, by country'),
    currency: z.string().nullable(),
    optWords: z.object({ out: words, in: words }),
    codeText: z.string().describe('The message of a one-time code; {code} is the code'),
  })
  .meta({ id: 'Messaging' });
export type Messaging = z.infer<typeof messaging>;

const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const address = z.string().trim().min(3).max(254);

export const smsOperations = {
  inbox: operation({
    id: 'sms.inbox',
    command: 'sms inbox',
    method: 'GET',
    path: `${ENVIRONMENT}/sms/inbox`,
    summary: 'Received short messages, latest first',
    caller: viewer,
    params: environmentParams,
    query: listQuery,
    reply: page(incomingSms),
  }),
  optOuts: operation({
    id: 'sms.optOuts',
    command: 'sms opt-outs',
    method: 'GET',
    path: `${ENVIRONMENT}/opt-outs`,
    summary: 'Opt-outs: numbers and addresses that opted out, or in again',
    caller: viewer,
    params: environmentParams,
    query: listQuery,
    reply: page(optOut),
  }),
  putOptOut: operation({
    id: 'sms.putOptOut',
    changes: 'opt-out',
    method: 'PUT',
    path: `${ENVIRONMENT}/opt-outs/{way}/{address}`,
    summary: 'Record that a number or address opted out or in',
    caller: developer,
    params: environmentParams.extend({ way: z.enum(['sms', 'mail']), address }),
    body: z.strictObject({ state: z.enum(['out', 'in']), because: z.string().trim().min(1).max(200) }),
    reply: optOut,
  }),
  removeOptOut: operation({
    id: 'sms.removeOptOut',
    changes: 'opt-out',
    method: 'DELETE',
    path: `${ENVIRONMENT}/opt-outs/{way}/{address}`,
    summary: 'Delete the opt-out or opt-in of a number or address',
    caller: { kind: 'member', role: 'maintainer' },
    params: environmentParams.extend({ way: z.enum(['sms', 'mail']), address }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  settings: operation({
    id: 'messaging.read',
    command: 'messaging show',
    method: 'GET',
    path: `${ENVIRONMENT}/messaging`,
    summary: 'Settings for messages of an environment',
    caller: viewer,
    params: environmentParams,
    reply: messaging,
  }),
  patchSettings: operation({
    id: 'messaging.patch',
    changes: 'message settings',
    command: 'messaging set <json>',
    method: 'PATCH',
    path: `${ENVIRONMENT}/messaging`,
    summary: 'Change settings for messages',
    caller: { kind: 'member', role: 'maintainer' },
    params: environmentParams,
    body: z.strictObject({
      retireAfterDays: z.int().min(0).max(3650).optional(),
      prices: z.record(country, z.number().min(0).max(1000)).optional(),
      currency: z
        .string()
        .regex(/^[A-Z]{3}$/, 'Three capitals of ISO 4217, such as EUR.')
        .optional(),
      optWords: z.strictObject({ out: words.optional(), in: words.optional() }).optional(),
      codeText: z
        .string()
        .max(300)
        .refine((text) => text.includes('{code}'), 'A text with {code} in it.')
        .optional(),
    }),
    reply: messaging,
  }),
};
