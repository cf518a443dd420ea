import { z } from 'zod';
import { ENVIRONMENT, actor, deviceId, environmentParams, listQuery, nothing, operation, page, time, uuid } from '../common.js';
import { topicName } from './devices.js';

export const topic = z
  .object({
    name: z.string(),
    title: z.string().nullable(),
    role: z.string().nullable().describe('Only users with this role may follow it'),
    devices: z.int().describe('Devices that follow it themselves'),
    users: z.int().describe('Users that follow it'),
    createdBy: actor,
    createdAt: time,
  })
  .meta({ id: 'Topic' });
export type Topic = z.infer<typeof topic>;

const one = environmentParams.extend({ topic: topicName });
const followers = z.strictObject({ devices: z.array(deviceId).max(1000).optional(), users: z.array(uuid).max(1000).optional() });

export const topicOperations = {
  list: operation({
    id: 'topics.list',
    command: 'topic list',
    method: 'GET',
    path: `${ENVIRONMENT}/topics`,
    summary: 'Topics, with how many follow them',
    caller: { kind: 'member', role: 'viewer' },
    params: environmentParams,
    query: listQuery,
    reply: page(topic),
  }),
  read: operation({
    id: 'topics.read',
    command: 'topic show',
    method: 'GET',
    path: `${ENVIRONMENT}/topics/{topic}`,
    summary: 'One topic',
    caller: { kind: 'member', role: 'viewer' },
    params: one,
    reply: topic,
    problems: ['not-found'],
  }),
  put: operation({
    id: 'topics.put',
    changes: 'topic',
    command: 'topic add',
    method: 'PUT',
    path: `${ENVIRONMENT}/topics/{topic}`,
    summary: 'Create a topic, or change its title or role',
    caller: { kind: 'member', role: 'developer' },
    params: one,
    body: z.strictObject({
      title: z.string().trim().max(200).nullable().optional(),
      role: z
        .string()
        .regex(/^[a-z][a-z0-9-]{0,38}$/, 'A lower-case letter, then up to 38 lower-case letters, digits or -.')
        .nullable()
        .optional(),
    }),
    alsoStatus: 201,
    reply: topic,
  }),
  remove: operation({
    id: 'topics.remove',
    changes: 'topic',
    command: 'topic remove',
    method: 'DELETE',
    path: `${ENVIRONMENT}/topics/{topic}`,
    summary: 'Delete a topic and its followers',
    caller: { kind: 'member', role: 'developer' },
    params: one,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  addFollowers: operation({
    id: 'topics.addFollowers',
    changes: 'topic',
    command: 'topic follow',
    method: 'POST',
    path: `${ENVIRONMENT}/topics/{topic}/followers`,
    summary: 'Let devices and users follow a topic',
    caller: { kind: 'member', role: 'developer' },
    params: one,
    body: followers,
    reply: topic,
    problems: ['not-found'],
  }),
  removeFollowers: operation({
    id: 'topics.removeFollowers',
    changes: 'topic',
    command: 'topic unfollow',
    method: 'POST',
    path: `${ENVIRONMENT}/topics/{topic}/leavers`,
    summary: 'Stop devices and users from following a topic',
    caller: { kind: 'member', role: 'developer' },
    params: one,
    body: followers,
    reply: topic,
    problems: ['not-found'],
  }),
};
