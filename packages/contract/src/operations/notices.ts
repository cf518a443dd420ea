import { z } from 'zod';
import { nothing, operation, time } from '../common.js';

export const notice = z
  .object({
    id: z.string(),
    app: z.string().nullable(),
    environment: z.string().nullable(),
    title: z.string(),
    body: z.string(),
    link: z.string().nullable().describe('A path of the console'),
    at: time,
    read: z.boolean(),
  })
  .meta({ id: 'Notice' });
export type Notice = z.infer<typeof notice>;

export const noticeOperations = {
  list: operation({
    id: 'notices.list',
    command: 'notice list',
    method: 'GET',
    path: '/manage/v1/notices',
    summary: 'Notices about the environments you have a role in, latest first',
    caller: { kind: 'member', role: 'viewer' },
    reply: z.object({ items: z.array(notice), unread: z.int() }),
  }),
  read: operation({
    id: 'notices.read',
    changes: 'nothing',
    method: 'POST',
    path: '/manage/v1/notices/read',
    summary: 'Mark all notices as read',
    caller: { kind: 'member', role: 'viewer' },
    status: 204,
    reply: nothing,
  }),
};
