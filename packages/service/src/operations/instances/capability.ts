import { operations } from '@orchard/contract';
import { bind } from '../../platform/call.js';
import type { Capability } from '../../platform/capability.js';
import type { InstanceRow } from '../../platform/instances/store.js';
import type { Platform } from '../../platform/platform.js';

/** The instances that serve this installation, as members see them. */
export function instances({ instances: all, instance }: Platform): Capability {
  const present = ({ id, startedAt, seenAt, ...row }: InstanceRow) => ({
    ...row,
    id,
    isThis: id === instance,
    startedAt: startedAt.toISOString(),
    seenAt: seenAt.toISOString(),
  });
  return {
    name: 'instances',
    routes: [bind(operations.instances.list, async () => ({ body: { items: (await all.list()).map(present) } }))],
  };
}
