import { desc, eq, getTableColumns, sql } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { releaseTable, setupSettingTable } from './tables.js';

export type ReleaseRow = typeof releaseTable.$inferSelect;
/** What a list shows; the documents are large. */
export type ReleaseHead = Omit<ReleaseRow, 'wanted' | 'before'>;

export class ReleaseStore {
  async add({ db }: Environment, row: ReleaseRow): Promise<void> {
    await db.orm.insert(db.table(releaseTable)).values(row);
  }

  async list({ db }: Environment, limit: number): Promise<ReleaseHead[]> {
    const table = db.table(releaseTable);
    const { wanted: _w, before: _b, ...head } = getTableColumns(table);
    return db.orm.select(head).from(table).orderBy(desc(table.at), desc(table.id)).limit(limit) as Promise<ReleaseHead[]>;
  }

  async find({ db }: Environment, id: string): Promise<ReleaseRow | undefined> {
    const table = db.table(releaseTable);
    return (await db.orm.select().from(table).where(eq(table.id, id)))[0];
  }

  /** The latest release that came to its end. */
  async lastDone({ db }: Environment): Promise<ReleaseRow | undefined> {
    const table = db.table(releaseTable);
    return (await db.orm.select().from(table).where(eq(table.state, 'done')).orderBy(desc(table.endedAt)).limit(1))[0];
  }

  async change({ db }: Environment, id: string, changes: Partial<ReleaseRow>): Promise<void> {
    const table = db.table(releaseTable);
    await db.orm.update(table).set(changes).where(eq(table.id, id));
  }

  async settings({ db }: Environment): Promise<{ approval: boolean; running: string | null }> {
    const [row] = await db.orm.select().from(db.table(setupSettingTable));
    return { approval: row?.approval === 1, running: row?.running ?? null };
  }

  async demandApproval({ db }: Environment, approval: boolean): Promise<void> {
    await db.orm
      .insert(db.table(setupSettingTable))
      .values({ id: 1, approval: approval ? 1 : 0 })
      .onDuplicateKeyUpdate({ set: { approval: approval ? 1 : 0 } });
  }

  /** Makes a release the one that is applied; false where another one is. Of two at the same instant, one gets it. */
  async begin({ db }: Environment, id: string): Promise<boolean> {
    const table = db.table(setupSettingTable);
    await db.orm
      .insert(table)
      .values({ id: 1 })
      .onDuplicateKeyUpdate({ set: { id: 1 } });
    const [done] = await db.orm.update(table).set({ running: id }).where(sql`${table.running} IS NULL OR ${table.running} = ${id}`);
    const { running } = await this.settings({ db } as Environment);
    return done.affectedRows > 0 || running === id;
  }

  async end({ db }: Environment, id: string): Promise<void> {
    const table = db.table(setupSettingTable);
    await db.orm.update(table).set({ running: null }).where(eq(table.running, id));
  }
}
