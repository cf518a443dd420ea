import { count, desc, eq } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { dateNoteTable } from './tables.js';

export type DateNoteRow = typeof dateNoteTable.$inferSelect;

export class DateNoteStore {
  list({ db }: Environment): Promise<DateNoteRow[]> {
    const table = db.table(dateNoteTable);
    return db.orm.select().from(table).orderBy(desc(table.at), desc(table.id));
  }

  async count({ db }: Environment): Promise<number> {
    const [row] = await db.orm.select({ n: count() }).from(db.table(dateNoteTable));
    return row?.n ?? 0;
  }

  async add({ db }: Environment, row: DateNoteRow): Promise<void> {
    await db.orm.insert(db.table(dateNoteTable)).values(row);
  }

  async find({ db }: Environment, id: string): Promise<DateNoteRow | undefined> {
    const table = db.table(dateNoteTable);
    return (await db.orm.select().from(table).where(eq(table.id, id)))[0];
  }

  async remove({ db }: Environment, id: string): Promise<void> {
    const table = db.table(dateNoteTable);
    await db.orm.delete(table).where(eq(table.id, id));
  }
}
