import { operations } from '@orchard/contract';
import { bind, type Route, type SignedInMember } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';
import { listEntries, visibleParts } from './entryList.js';
import { exportEntries } from './exporting.js';
import { readHeads, verifyAll } from './verifying.js';

export function auditRoutes(parts: Platform): Route[] {
  const own = operations.audit;
  return [
    bind(own.list, async (call) => {
      const from = await visibleParts(parts, call.member as SignedInMember, call.query);
      return { body: await listEntries(parts, from, call.query) };
    }),
    bind(own.export, async (call) => {
      const from = await visibleParts(parts, call.member as SignedInMember, call.query);
      await exportEntries(parts, from, call.query, call.response);
      return 'streaming';
    }),
    bind(own.heads, async () => ({ body: { items: await readHeads(parts) } })),
    bind(own.verify, async (call) => {
      const items = await verifyAll(parts, call.body.heads ?? []);
      return { body: { ok: items.every(({ ok }) => ok), items } };
    }),
  ];
}
