/** Gateways of the version before, which stood in the system database: they move to their environment once. */
import type { JsonObject } from '@orchard/core';
import { eq, inArray } from 'drizzle-orm';
import { seal, unseal } from '../../platform/access/secrets.js';
import type { Environment } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';
import { contextOf } from './gatewayDirectory.js';
import { formerGatewayMappings, formerGateways } from './systemTables.js';
import type { MappingRow } from './store.js';
import { gatewayMappingTable, gatewayTable } from './tables.js';

/**
 * Moves what there is, its credentials re-encrypted under the environment's own key. If interrupted, it continues at the
 * next start: rows that were written already stay as they are.
 */
export async function takeOverGateways(
  { database, secretKey }: Pick<Platform, 'database' | 'secretKey'>,
  environment: Environment,
): Promise<void> {
  const { orm } = database;
  const rows = await orm.select().from(formerGateways).where(eq(formerGateways.environmentId, environment.id));
  const ids = rows.map(({ id }) => id);
  const mappings = await orm.select().from(formerGatewayMappings).where(inArray(formerGatewayMappings.gatewayId, ids));
  const { db, keys } = environment;
  await db.orm.transaction(async (on) => {
    for (const { environmentId: _, ...row } of rows) {
      const context = contextOf(environment, row.name);
      const sealed = seal(keys.data, context, unseal(secretKey, context, row.sealed));
      await on
        .insert(db.table(gatewayTable))
        .ignore()
        .values({ ...row, sealed });
    }
    if (mappings.length > 0) await on.insert(db.table(gatewayMappingTable)).ignore().values(mappings.map(renamed));
  });
  await orm.delete(formerGateways).where(inArray(formerGateways.id, ids));
}

/** The package identifier was called `storeId` in earlier mappings and their templates. */
const renamed = (mapping: MappingRow): MappingRow => ({
  ...mapping,
  document: JSON.parse(JSON.stringify(mapping.document).replaceAll('storeId', 'packageIdentifier')) as JsonObject,
});
