/** Gateways and the versions of their mappings, as rows. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { GatewayMapping } from '@orchard/core/reach';
import { and, desc, eq } from 'drizzle-orm';
import { type Database, isDuplicate } from '../../platform/database/connection.js';
import { gatewayMappings, gateways } from '../../platform/database/systemTables.js';

export type GatewayRow = typeof gateways.$inferSelect;
export type MappingRow = typeof gatewayMappings.$inferSelect;

export class GatewayStore {
  constructor(private readonly database: Database) {}

  ofEnvironment(environmentId: string): Promise<GatewayRow[]> {
    return this.database.orm.select().from(gateways).where(eq(gateways.environmentId, environmentId)).orderBy(gateways.name);
  }

  ofKind(kind: string): Promise<GatewayRow[]> {
    return this.database.orm.select().from(gateways).where(eq(gateways.kind, kind));
  }

  withExpiry(): Promise<GatewayRow[]> {
    return this.database.orm.select().from(gateways).where(eq(gateways.kind, 'certificate'));
  }

  async find(environmentId: string, name: string): Promise<GatewayRow | null> {
    return (
      (
        await this.database.orm
          .select()
          .from(gateways)
          .where(and(eq(gateways.environmentId, environmentId), eq(gateways.name, name)))
      )[0] ?? null
    );
  }

  /** Stores a gateway, with its first mapping if it has one. @throws {Problem} already-exists */
  async insert(row: GatewayRow, mapping: { document: GatewayMapping; by: string } | null): Promise<void> {
    try {
      await this.database.orm.transaction(async (on) => {
        await on.insert(gateways).values(row);
        if (mapping) await on.insert(gatewayMappings).values(mappingRow(row.id, 1, mapping.document, mapping.by, row.createdAt));
      });
    } catch (error) {
      if (isDuplicate(error))
        throw new Problem('already-exists', `There is a gateway ${row.name} already. Choose another name, or change that one.`);
      throw error;
    }
  }

  async update(id: string, changes: Partial<GatewayRow>): Promise<void> {
    await this.database.orm.update(gateways).set(changes).where(eq(gateways.id, id));
  }

  async remove(id: string): Promise<void> {
    await this.database.orm.delete(gateways).where(eq(gateways.id, id));
  }

  async mapping(id: string, version: number): Promise<GatewayMapping | null> {
    const [row] = await this.database.orm
      .select()
      .from(gatewayMappings)
      .where(and(eq(gatewayMappings.gatewayId, id), eq(gatewayMappings.version, version)));
    return (row?.document as unknown as GatewayMapping) ?? null;
  }

  mappings(id: string, limit: number): Promise<MappingRow[]> {
    return this.database.orm
      .select()
      .from(gatewayMappings)
      .where(eq(gatewayMappings.gatewayId, id))
      .orderBy(desc(gatewayMappings.version))
      .limit(limit);
  }

  /** Adds a version and puts it to use. */
  async addMapping(row: GatewayRow, document: GatewayMapping, by: string, now: Date): Promise<MappingRow> {
    return this.database.orm.transaction(async (on) => {
      const [latest] = await on.select().from(gateways).where(eq(gateways.id, row.id)).for('update');
      const made = mappingRow(row.id, (latest?.mappingVersion ?? 0) + 1, document, by, now);
      await on.insert(gatewayMappings).values(made);
      await on.update(gateways).set({ mappingVersion: made.version, updatedAt: now }).where(eq(gateways.id, row.id));
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
