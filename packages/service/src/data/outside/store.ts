/** Outside servers and tables, as rows. */
import { asc, count, eq } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { outsideServerTable, outsideTableTable } from './tables.js';

export type ServerRow = typeof outsideServerTable.$inferSelect;
export type TableRow = typeof outsideTableTable.$inferSelect;

export class OutsideStore {
  servers({ db }: Environment): Promise<ServerRow[]> {
    const table = db.table(outsideServerTable);
    return db.orm.select().from(table).orderBy(asc(table.name));
  }

  async server({ db }: Environment, name: string): Promise<ServerRow | null> {
    const table = db.table(outsideServerTable);
    return (await db.orm.select().from(table).where(eq(table.name, name)))[0] ?? null;
  }

  async addServer({ db }: Environment, row: ServerRow): Promise<void> {
    await db.orm.insert(db.table(outsideServerTable)).values(row);
  }

  async changeServer({ db }: Environment, id: string, changes: Partial<ServerRow>): Promise<void> {
    const table = db.table(outsideServerTable);
    await db.orm.update(table).set(changes).where(eq(table.id, id));
  }

  async removeServer({ db }: Environment, id: string): Promise<void> {
    const table = db.table(outsideServerTable);
    await db.orm.delete(table).where(eq(table.id, id));
  }

  async tablesOf({ db }: Environment, serverId: string): Promise<number> {
    const table = db.table(outsideTableTable);
    const [row] = await db.orm.select({ n: count() }).from(table).where(eq(table.serverId, serverId));
    return row?.n ?? 0;
  }

  tables({ db }: Environment): Promise<TableRow[]> {
    const table = db.table(outsideTableTable);
    return db.orm.select().from(table).orderBy(asc(table.name));
  }

  async putTable({ db }: Environment, row: TableRow): Promise<void> {
    const { name: _, createdAt: _c, createdBy: _b, ...changing } = row;
    await db.orm.insert(db.table(outsideTableTable)).values(row).onDuplicateKeyUpdate({ set: changing });
  }

  async changeTable({ db }: Environment, name: string, changes: Partial<TableRow>): Promise<void> {
    const table = db.table(outsideTableTable);
    await db.orm.update(table).set(changes).where(eq(table.name, name));
  }

  async removeTable({ db }: Environment, name: string): Promise<boolean> {
    const table = db.table(outsideTableTable);
    const [{ affectedRows }] = await db.orm.delete(table).where(eq(table.name, name));
    return affectedRows > 0;
  }
}
