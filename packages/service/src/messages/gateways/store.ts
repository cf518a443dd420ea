/** Gateways and the versions of their mappings, as rows of their environment. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { GatewayMapping } from '@orchard/core/messages';
import { and, desc, eq } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { isDuplicate } from '../../platform/database/errors.js';
import { gatewayMappingTable, gatewayTable } from './tables.js';

export type GatewayRow = typeof gatewayTable.$inferSelect;
export type MappingRow = typeof gatewayMappingTable.$inferSelect;
type Place = Pick<Environment, 'db'>;

export class GatewayStore {
  all({ db }: Place): Promise<GatewayRow[]> {
    return db.orm.select().from(db.table(gatewayTable)).orderBy(gatewayTable.name);
  }

  ofKind({ db }: Place, kind: string): Promise<GatewayRow[]> {
    return db.orm.select().from(db.table(gatewayTable)).where(eq(gatewayTable.kind, kind));
  }

  async find({ db }: Place, name: string): Promise<GatewayRow | null> {
    const [row] = await db.orm.select().from(db.table(gatewayTable)).where(eq(gatewayTable.name, name));
    return row ?? null;
  }

  /** Stores a gateway, with its first mapping if it has one. @throws {Problem} already-exists */
  async insert({ db }: Place, row: GatewayRow, mapping: { document: GatewayMapping; by: string } | null): Promise<void> {
    try {
      await db.orm.transaction(async (on) => {
        await on.insert(db.table(gatewayTable)).values(row);
        if (mapping)
          await on.insert(db.table(gatewayMappingTable)).values(mappingRow(row.id, 1, mapping.document, mapping.by, row.createdAt));
      });
    } catch (error) {
      if (isDuplicate(error))
        throw new Problem('already-exists', `There is a gateway ${row.name} already. Choose another name, or change that one.`);
      throw error;
    }
  }

  async update({ db }: Place, id: string, changes: Partial<GatewayRow>): Promise<void> {
    await db.orm.update(db.table(gatewayTable)).set(changes).where(eq(gatewayTable.id, id));
  }

  async remove({ db }: Place, id: string): Promise<void> {
    await db.orm.transaction(async (on) => {
      await on.delete(db.table(gatewayMappingTable)).where(eq(gatewayMappingTable.gatewayId, id));
      await on.delete(db.table(gatewayTable)).where(eq(gatewayTable.id, id));
    });
  }

  async mapping({ db }: Place, id: string, version: number): Promise<GatewayMapping | null> {
    const [row] = await db.orm
      .select()
      .from(db.table(gatewayMappingTable))
      .where(and(eq(gatewayMappingTable.gatewayId, id), eq(gatewayMappingTable.version, version)));
    return (row?.document as unknown as GatewayMapping) ?? null;
  }

  mappings({ db }: Place, id: string, limit: number): Promise<MappingRow[]> {
    return db.orm
      .select()
      .from(db.table(gatewayMappingTable))
      .where(eq(gatewayMappingTable.gatewayId, id))
      .orderBy(desc(gatewayMappingTable.version))
      .limit(limit);
  }

  /** Adds a version and activates it. */
  async addMapping({ db }: Place, row: GatewayRow, document: GatewayMapping, by: string, now: Date): Promise<MappingRow> {
    return db.orm.transaction(async (on) => {
      const [latest] = await on.select().from(db.table(gatewayTable)).where(eq(gatewayTable.id, row.id)).for('update');
      const made = mappingRow(row.id, (latest?.mappingVersion ?? 0) + 1, document, by, now);
      await on.insert(db.table(gatewayMappingTable)).values(made);
      await on.update(db.table(gatewayTable)).set({ mappingVersion: made.version, updatedAt: now }).where(eq(gatewayTable.id, row.id));
      return made;
    });
  }
}

const mappingRow = (gatewayId: string, version: number, document: GatewayMapping, createdBy: string, createdAt: Date): MappingRow => ({
  gatewayId,
  version,
  document: document as unknown as JsonObject,
  createdBy,
  createdAt,
});
