/** Moves, as rows. */
import { desc, eq, inArray, sql } from 'drizzle-orm';
import type { Database } from '../../platform/database/connection.js';
import { moveTable } from './systemTables.js';

export type MoveRow = typeof moveTable.$inferSelect;
const UNDER_WAY = ['copying', 'catching-up', 'switching'] as const;

export class MoveStore {
  constructor(private readonly database: Pick<Database, 'orm'>) {}

  async add(row: typeof moveTable.$inferInsert): Promise<MoveRow> {
    await this.database.orm.insert(moveTable).values(row);
    return (await this.find(row.id)) as MoveRow;
  }

  async find(id: string): Promise<MoveRow | null> {
    return (await this.database.orm.select().from(moveTable).where(eq(moveTable.id, id)))[0] ?? null;
  }

  /** The newest first. */
  list(environmentId: string): Promise<MoveRow[]> {
    return this.database.orm
      .select()
      .from(moveTable)
      .where(eq(moveTable.environmentId, environmentId))
      .orderBy(desc(moveTable.at))
      .limit(100);
  }

  async underWay(environmentId: string): Promise<MoveRow | null> {
    return (await this.list(environmentId)).find(({ state }) => (UNDER_WAY as readonly string[]).includes(state)) ?? null;
  }

  async change(id: string, changes: Partial<MoveRow>): Promise<void> {
    await this.database.orm.update(moveTable).set(changes).where(eq(moveTable.id, id));
  }

  async addCaughtUp(id: string, rows: number): Promise<void> {
    await this.database.orm
      .update(moveTable)
      .set({ caughtUp: sql`${moveTable.caughtUp} + ${rows}` })
      .where(eq(moveTable.id, id));
  }

  /** To another installation: from now on that one says where the environment lives. @returns false where it was undone */
  async beginSwitching(id: string): Promise<boolean> {
    const [changed] = await this.database.orm
      .update(moveTable)
      .set({ state: 'switching' })
      .where(sql`${moveTable.id} = ${id} AND ${inArray(moveTable.state, ['copying', 'catching-up'])}`);
    return changed.affectedRows === 1;
  }

  /** @returns false where it has been switched, or has ended */
  async undo(id: string): Promise<boolean> {
    const [changed] = await this.database.orm
      .update(moveTable)
      .set({ state: 'undone' })
      .where(sql`${moveTable.id} = ${id} AND ${inArray(moveTable.state, ['copying', 'catching-up'])}`);
    return changed.affectedRows === 1;
  }
}
