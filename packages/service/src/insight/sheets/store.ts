import { asc, count, eq, or } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { sheetTable } from './tables.js';

export type SheetRow = typeof sheetTable.$inferSelect;

export class SheetStore {
  list({ db }: Environment): Promise<SheetRow[]> {
    const table = db.table(sheetTable);
    return db.orm.select().from(table).orderBy(asc(table.name));
  }

  async count({ db }: Environment): Promise<number> {
    const [row] = await db.orm.select({ n: count() }).from(db.table(sheetTable));
    return row?.n ?? 0;
  }

  /** @param idOrName as commands and addresses name it */
  async find({ db }: Environment, idOrName: string): Promise<SheetRow | undefined> {
    const table = db.table(sheetTable);
    const [row] = await db.orm
      .select()
      .from(table)
      .where(or(eq(table.id, idOrName), eq(table.name, idOrName)));
    return row;
  }

  async add({ db }: Environment, row: SheetRow): Promise<void> {
    await db.orm.insert(db.table(sheetTable)).values(row);
  }

  async replace({ db }: Environment, { id, ...row }: SheetRow): Promise<void> {
    const table = db.table(sheetTable);
    await db.orm.update(table).set(row).where(eq(table.id, id));
  }

  async remove({ db }: Environment, id: string): Promise<void> {
    const table = db.table(sheetTable);
    await db.orm.delete(table).where(eq(table.id, id));
  }
}
