/** A notification to send: recipients, content, and how it is sent. */
import { z } from 'zod';
import { appData, deviceId, email, jsonObject, time, uuid } from '../common.js';
import { PLATFORMS, topicName } from './devices.js';

export const WAYS = ['push', 'sms', 'mail'] as const;
export type Way = (typeof WAYS)[number];

const topicList = z.array(topicName).min(1).max(50);
export const audience = z
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
    notListening: topicName.optional().describe('With topics: only those not listening on this channel now'),
    phones: z.array(z.string().max(40)).min(1).max(10_000).optional().describe('For SMS: numbers'),
    addresses: z.array(email).min(1).max(10_000).optional().describe('For mail: addresses'),
  })
  .refine((said) => {
    const names = Object.keys(said).filter((name) => said[name as keyof typeof said] !== undefined);
    const whom = names.filter((name) => name !== 'notListening');
    if (whom.length < names.length && !whom.includes('topics')) return false;
    return whom.length === 1 || (whom.length === 2 && whom.includes('topics') && whom.includes('filter'));
  }, 'Exactly one of everyone, user, users, device, devices, topics, filter, phones, addresses; topics and filter may go together, and `notListening` with topics.')
  .describe('The recipients: `{"everyone":true}`, `{"topics":{"any":["ridge-weather"]}}`, `{"filter":"platform = \'ios\'"}`, …');
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
export const contentSet = content.extend({
  platforms: z.partialRecord(z.enum(PLATFORMS), content).optional().describe('What differs on a platform'),
  locales: z.record(tag, content).optional().describe('What differs in a language'),
  overlays: z.record(z.string().max(40), jsonObject).optional().describe('Merged into what goes to a gateway of this name (RFC 7396)'),
  second: z
    .strictObject({ share: z.number().min(0.01).max(0.99), content })
    .optional()
    .describe('A comparison: the second content, and the share of devices that receives it'),
});
export type ContentInput = z.input<typeof contentSet>;

export const clock = z.string().regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'A time of day, such as 22:00.');
export const options = {
  way: z.enum(WAYS).default('push'),
  urgency: z.enum(['very-low', 'low', 'normal', 'high']).default('normal').describe('RFC 8030 section 5.3'),
  ttlS: z.int().min(0).max(2_419_200).default(86_400).describe('Time to live in seconds at the push network (RFC 8030 section 5.2)'),
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
  perSecond: z.int().min(1).max(100_000).optional().describe('Most per second'),
  quiet: z.strictObject({ from: clock, to: clock }).optional().describe('Hours of each recipient’s day in which nothing is sent'),
  fallBack: z
    .strictObject({
      afterMin: z.int().min(1).max(10_080),
      way: z.enum(['sms', 'mail']),
      body: text(2000).optional().describe('Its text; the body of the notification, if left out'),
    })
    .optional()
    .describe('Another way for recipients who have not received it after this many minutes'),
};
export const newNotification = contentSet.extend({
  ...options,
  audience,
  draft: z.boolean().optional().describe('Save it without sending'),
});
export type NewNotification = z.output<typeof newNotification>;
