import { z } from 'zod';
import { operation, time } from '../common.js';

const instance = z
  .object({
    id: z.string(),
    host: z.string().describe('The name of its machine'),
    pid: z.int(),
    port: z.int(),
    version: z.string(),
    database: z.string().describe('Host and port of the database server, or of the node of a cluster, that it uses'),
    state: z.enum(['serving', 'stopping']),
    clockBehindMs: z.int().describe("How far its machine's clock is behind the database's, by which the service goes; 0 where they agree"),
    isThis: z.boolean().describe('Whether it answered this call'),
    startedAt: time,
    seenAt: time,
  })
  .meta({ id: 'Instance' });
export type InstanceDocument = z.output<typeof instance>;

export const instanceOperations = {
  list: operation({
    id: 'instances.list',
    command: 'instance list',
    method: 'GET',
    path: '/manage/v1/instances',
    summary: 'The instances that serve this installation, with the database that each uses',
    caller: { kind: 'member', role: 'viewer' },
    reply: z.object({ items: z.array(instance) }),
  }),
};
