import { operations } from '@orchard/contract';
import { bind, type Route } from '../../platform/call.js';
import type { Parts } from './parts.js';

export function noticeRoutes(parts: Parts): Route[] {
  const own = operations.notices;
  return [
    bind(own.list, async (call) => ({ body: await parts.notices.list({ id: call.member?.id ?? '', owner: call.member?.owner ?? false }) })),
    bind(own.read, async (call) => {
      await parts.notices.read(call.member?.id ?? '');
      return { body: undefined };
    }),
  ];
}
