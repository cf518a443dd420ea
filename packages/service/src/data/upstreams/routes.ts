import { operations, type Upstream } from '@orchard/contract';
import { orNone } from '../../platform/audit/audit.js';
import { bind, environmentOf, type Naming, type Route } from '../../platform/call.js';
import type { UpstreamDirectory } from './directory.js';
import { UpstreamManaging } from './managing.js';
import type { Parts } from './parts.js';
import type { UpstreamStore } from './store.js';
import { straightRoutes } from './straight.js';
import { usesSince } from './uses.js';

const HOUR_MS = 3_600_000;

export function upstreamRoutes(parts: Parts, store: UpstreamStore, directory: UpstreamDirectory): Route[] {
  const own = operations.upstreams;
  const managing = new UpstreamManaging(parts, store, directory);
  /** How it fares is no part of what somebody changed. */
  const settings = ({ health: _h, check: _c, recorded: _r, ...kept }: Upstream) => kept;
  const audited = {
    read: async (call: Naming<{ upstream: string }>) => {
      const found = await orNone(managing.read(environmentOf(call), call.params.upstream));
      return found && settings(found);
    },
  };
  return [
    bind(own.list, async (call) => ({ body: { items: await managing.list(environmentOf(call)) } })),
    bind(own.read, async (call) => ({ body: await managing.read(environmentOf(call), call.params.upstream) })),
    bind(
      own.put,
      async (call) => {
        const { upstream, isNew } = await managing.put(call);
        return { body: upstream, status: isNew ? 201 : 200 };
      },
      audited,
    ),
    bind(
      own.remove,
      async (call) => {
        await managing.remove(environmentOf(call), call.params.upstream);
        return { body: undefined };
      },
      audited,
    ),
    bind(own.check, async (call) => ({ body: await managing.check(environmentOf(call), call.params.upstream) })),
    bind(own.try, async (call) => ({ body: await managing.try(call) })),
    bind(own.describe, async (call) => ({ body: await managing.describe(environmentOf(call), call.params.upstream, call.body) }), audited),
    bind(own.description, async (call) => ({ body: await managing.described(environmentOf(call), call.params.upstream) })),
    bind(
      own.forget,
      async (call) => {
        await managing.named(environmentOf(call), call.params.upstream);
        return { body: { forgotten: await store.forget(environmentOf(call), call.params.upstream) } };
      },
      audited,
    ),
    bind(own.uses, async (call) => {
      const since = new Date(parts.now() - call.query.hours * HOUR_MS);
      return { body: { items: await usesSince(parts, environmentOf(call), since, call.query.of) } };
    }),
    ...straightRoutes(parts, directory),
  ];
}
