/**
 * The setup of an environment as one document, as it stands in `orchard.yaml`: what there should be, by kind and name. The parts are the
 * bodies of the calls that make them by hand.
 */
import { z } from 'zod';
import { collectionName, slug } from './common.js';
import { entryRulesShape, mailKind, mailLocale, mailText, userField } from './operations/accounts.js';
import { alertRule } from './operations/alerts.js';
import { managedBroadcastOperations } from './operations/broadcasts.js';
import { field, rule } from './operations/collections.js';
import { eventName, plannedEvent } from './operations/events.js';
import { folderPath, folderRules } from './operations/fileDefinition.js';
import { fileName, functionShape, source } from './operations/functionDefinition.js';
import { changedGateway, gatewayMapping, GATEWAY_KINDS } from './operations/gateways.js';
import { identityOperations } from './operations/identity.js';
import { objective } from './operations/objectives.js';
import { newReport } from './operations/reports.js';
import { newSignInWay } from './operations/signInWays.js';
import { smsOperations } from './operations/sms.js';
import { standingDefinition } from './operations/standing.js';
import { topicName } from './operations/devices.js';
import { turnOperations } from './operations/turn.js';
import { upstreamDefinition } from './operations/upstreams.js';
import { userRoleShape } from './operations/userRoles.js';

const secretName = slug.describe('The name of a secret of this environment');
const oneField = field.extend({
  was: collectionName.optional().describe('Its name before, which tells a new name from a drop and an addition'),
});
const index = z.strictObject({
  fields: z.array(z.string().max(300)).min(1).max(5),
  search: z.boolean().optional(),
  unique: z.boolean().optional(),
});
const OWNER = 'owner';
const collectionPart = z.strictObject({
  fields: z.record(collectionName, oneField).default({}),
  rules: z
    .strictObject({ read: rule.prefault(OWNER), create: rule.prefault(OWNER), update: rule.prefault(OWNER), delete: rule.prefault(OWNER) })
    .prefault({}),
  indexes: z.array(index).default([]),
});
const gatewayPart = z.strictObject({
  kind: z.enum(GATEWAY_KINDS),
  stage: z.enum(['trial', 'live']),
  client: slug.nullish(),
  settings: changedGateway.shape.settings.unwrap().default({}),
  mapping: gatewayMapping.optional(),
  credential: z
    .strictObject({ certificate: secretName.optional(), keyFile: secretName.optional(), password: secretName.optional() })
    .optional()
    .describe('Names of the secrets that hold it; needed where the gateway is new'),
});
const functionPart = z.strictObject({ ...functionShape, files: z.record(fileName, source) });
const topicPart = z.strictObject({ title: z.string().trim().max(200).nullable().default(null), role: z.string().nullable().default(null) });
const channelRule = z.string().trim().min(1).max(1000);
const channelPart = z.strictObject({
  rules: z.strictObject({ listen: channelRule, publish: channelRule }),
  keep: z.int().min(0).max(1000).default(0),
});
const folderPart = z.strictObject({ rules: folderRules.nullable().default(null), public: z.boolean().default(false) });

/** How a kind of part is written: by name, or once for the environment. */
type Kind = { title: string; of: 'named' | 'one'; name?: z.ZodType<string>; part: z.ZodType };
const named = (title: string, name: z.ZodType<string>, part: z.ZodType): Kind => ({ title, of: 'named', name, part });
const one = (title: string, part: z.ZodType): Kind => ({ title, of: 'one', part });
const bodyOf = (operation: { body?: z.ZodType }): z.ZodObject => operation.body as z.ZodObject;

/** In the order in which they are made: each after those it may refer to. */
export const SETUP_KINDS = {
  userFields: named('User fields', collectionName, userField),
  collections: named('Collections', collectionName, collectionPart),
  roles: named('Roles', slug, z.strictObject(userRoleShape)),
  entry: one('Sign-up', z.strictObject(entryRulesShape).partial()),
  signInPage: one('Sign-in page', bodyOf(identityOperations.changePage).omit({ picture: true })),
  ways: named('Ways to sign in', slug, newSignInWay),
  mails: named('Mails about accounts', mailKind, z.record(mailLocale, z.strictObject(mailText))),
  upstreams: named('Upstreams', slug, upstreamDefinition),
  gateways: named('Gateways', slug, gatewayPart),
  messaging: one('Messages', bodyOf(smsOperations.patchSettings)),
  topics: named('Topics', topicName, topicPart),
  channels: named('Channels', topicName, channelPart),
  folders: named('Folders', folderPath, folderPart),
  broadcasts: one('Broadcasts', bodyOf(managedBroadcastOperations.changeSettings)),
  calls: one('Calls between people', bodyOf(turnOperations.change).omit({ secret: true })),
  functions: named('Functions', slug, functionPart),
  standing: named('Standing notifications', z.string().min(1).max(80), standingDefinition.omit({ name: true })),
  events: named('Event plan', eventName, plannedEvent.omit({ name: true })),
  objectives: named('Objectives', slug, objective.omit({ name: true })),
  alerts: named('Alerts', slug, alertRule.omit({ name: true })),
  reports: named('Reports', z.string().min(1).max(80), newReport.omit({ name: true })),
} as const satisfies Record<string, Kind>;
export type SetupKind = keyof typeof SETUP_KINDS;
export const setupKinds = Object.keys(SETUP_KINDS) as SetupKind[];

/** The form of a setup file that this version reads. */
export const SETUP_FORMAT = 1;
const kindsShape = Object.fromEntries(
  Object.entries(SETUP_KINDS as Record<string, Kind>).map(([kind, { of, name, part, title }]) => {
    const schema = of === 'one' ? part : z.partialRecord(name as z.ZodString, part);
    return [kind, schema.optional().describe(title)];
  }),
);
/** A setup file, read and complete: what a kind leaves out has its default. */
export const setupFile = z.strictObject({
  setup: z.literal(SETUP_FORMAT, `${SETUP_FORMAT}: the form of the file that this version reads.`).describe('The form of this file'),
  ...kindsShape,
});
