import { z } from 'zod';
import { ENVIRONMENT, actor, appData, deviceId, environmentParams, forMembers, nothing, operation, time } from '../common.js';
import { topicName } from './devices.js';

const rule = z.string().trim().min(1).max(1000).describe("A filter in CQL2 over `channel`, `me('id')` and `me('roles')`");
const rules = z.object({ listen: rule, publish: rule });
export const channel = z
  .object({
    name: z.string(),
    rules: z.object({ listen: z.string(), publish: z.string() }),
    keep: z.int().describe('How many messages are kept for later listeners'),
    messages: z.int(),
    listening: z.int().describe('Open streams'),
    createdBy: actor,
    createdAt: time,
  })
  .meta({ id: 'Channel' });
export type Channel = z.infer<typeof channel>;
export const channelMessage = z
  .object({ number: z.int(), data: z.looseObject({}), sender: actor, at: time })
  .meta({ id: 'ChannelMessage' });
export type ChannelMessage = z.infer<typeof channelMessage>;
export const presence = z
  .object({ listening: z.int(), users: z.array(z.object({ userId: z.string(), since: time })) })
  .meta({ id: 'Presence' });
export type Presence = z.infer<typeof presence>;
export const openChannel = channel
  .extend({ latest: z.array(channelMessage).describe('The latest messages, oldest first'), presence })
  .meta({ id: 'OpenChannel' });
export type OpenChannel = z.infer<typeof openChannel>;

const named = z.object({ channel: topicName });
const managed = environmentParams.extend({ channel: topicName });
const history = z.strictObject({ limit: z.coerce.number().int().min(1).max(1000).default(50) });
const published = z.strictObject({
  data: appData,
  notify: z
    .strictObject({
      title: z.string().trim().min(1).max(200),
      body: z.string().max(2000).optional(),
      link: z.string().max(1000).optional(),
    })
    .optional()
    .describe('Goes to followers of the topic of the same name who are not listening'),
});
const listen = { kind: 'app', user: 'optional', scope: 'channels:listen' } as const;
const publish = { kind: 'app', user: 'optional', scope: 'channels:publish' } as const;
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const ONE = '/app/v1/channels/{channel}';
const REFUSALS = ['not-found', 'access-refused'] as const;

const publishing = operation({
  id: 'channels.publish',
  changes: 'channel',
  method: 'POST',
  path: `${ONE}/messages`,
  summary: 'Publish a message on a channel',
  caller: publish,
  params: named,
  body: published,
  status: 201,
  reply: channelMessage,
  problems: [...REFUSALS],
});

export const channelOperations = {
  publish: publishing,
  history: operation({
    id: 'channels.history',
    library: 'channel({channel}).history()',
    method: 'GET',
    path: `${ONE}/messages`,
    summary: 'The latest messages of a channel, oldest first',
    caller: listen,
    params: named,
    query: history,
    reply: z.object({ items: z.array(channelMessage) }),
    problems: [...REFUSALS],
  }),
  live: operation({
    id: 'channels.live',
    method: 'GET',
    path: `${ONE}/live`,
    summary: 'Messages of a channel as they arrive, and who joins and leaves',
    caller: listen,
    params: named,
    query: z.strictObject({
      last: z.coerce.number().int().min(0).max(1000).default(0).describe('Start with this many of the latest messages'),
      device: deviceId.optional(),
    }),
    stream: true,
    requestHeaders: ['Last-Event-ID'],
    reply: z.looseObject({}).meta({ id: 'ChannelEvent', description: 'Events `message` (a ChannelMessage) and `presence` (a Presence)' }),
    problems: [...REFUSALS],
  }),
  presence: operation({
    id: 'channels.presence',
    library: 'channel({channel}).presence()',
    method: 'GET',
    path: `${ONE}/presence`,
    summary: 'Who listens on a channel',
    caller: listen,
    params: named,
    reply: presence,
    problems: [...REFUSALS],
  }),
  list: operation({
    id: 'channels.list',
    command: 'channel list',
    method: 'GET',
    path: `${ENVIRONMENT}/channels`,
    summary: 'Channels of an environment',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(channel) }),
  }),
  read: operation({
    id: 'channels.read',
    command: 'channel show',
    method: 'GET',
    path: `${ENVIRONMENT}/channels/{channel}`,
    summary: 'A channel with its latest messages and who listens',
    caller: viewer,
    params: managed,
    reply: openChannel,
    problems: ['not-found'],
  }),
  publishManaged: {
    ...forMembers(publishing, 'developer', 'Publish a message on a channel as a member'),
    problems: ['not-found' as const],
  },
  put: operation({
    id: 'channels.put',
    changes: 'channel',
    method: 'PUT',
    path: `${ENVIRONMENT}/channels/{channel}`,
    summary: 'Create a channel, or change its rules and how much it keeps',
    caller: developer,
    params: managed,
    body: z.strictObject({ rules: rules.partial().optional(), keep: z.int().min(0).max(1000).optional() }),
    alsoStatus: 201,
    reply: channel,
    problems: ['malformed-filter'],
  }),
  remove: operation({
    id: 'channels.remove',
    changes: 'channel',
    command: 'channel remove',
    method: 'DELETE',
    path: `${ENVIRONMENT}/channels/{channel}`,
    summary: 'Delete a channel and its messages',
    caller: developer,
    params: managed,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
};
