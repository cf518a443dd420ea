/** What this room asks of rooms above it; each port is filled by the room that can answer. */
import type { Collection } from '@orchard/contract';
import type { AccessRules } from '@orchard/core';
import type { Environment } from '../../platform/call.js';

/** Collections that are no tables of the environment. */
export type CollectionPorts = {
  elsewhere: (environment: Environment) => Promise<Collection[]>;
  /** @throws {Problem} outside-unsupported, malformed-filter */
  changeElsewhere: (
    environment: Environment,
    name: string,
    changes: { rules?: Partial<AccessRules> | undefined; addFields?: object[] | undefined },
  ) => Promise<void>;
};
export const emptyCollectionPorts = (): CollectionPorts => ({ elsewhere: async () => [], changeElsewhere: async () => undefined });
