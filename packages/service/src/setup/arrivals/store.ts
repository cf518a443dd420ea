/** Arrivals, as rows. */
import { and, desc, eq, inArray } from 'drizzle-orm';
import type { Database } from '../../platform/database/connection.js';
import { type ARRIVAL_STATES, arrivalTable } from './systemTables.js';

export type ArrivalRow = typeof arrivalTable.$inferSelect;
export type ArrivalState = (typeof ARRIVAL_STATES)[number];

export class ArrivalStore {
  constructor(private readonly database: Pick<Database, 'orm'>) {}

  async add(row: typeof arrivalTable.$inferInsert): Promise<ArrivalRow> {
    await this.database.orm.insert(arrivalTable).values(row);
    return (await this.find(row.id)) as ArrivalRow;
  }

  async find(id: string): Promise<ArrivalRow | null> {
    return (await this.database.orm.select().from(arrivalTable).where(eq(arrivalTable.id, id)))[0] ?? null;
  }

  async ofTicket(ticketHash: string): Promise<ArrivalRow | null> {
    return (await this.database.orm.select().from(arrivalTable).where(eq(arrivalTable.ticketHash, ticketHash)))[0] ?? null;
  }

  /** The newest first. */
  list(): Promise<ArrivalRow[]> {
    return this.database.orm.select().from(arrivalTable).orderBy(desc(arrivalTable.at)).limit(100);
  }

  /** Arrivals of an environment that have begun and not ended. */
  underWay(environmentId: string): Promise<ArrivalRow[]> {
    return this.database.orm
      .select()
      .from(arrivalTable)
      .where(and(eq(arrivalTable.environmentId, environmentId), inArray(arrivalTable.state, ['receiving', 'loading', 'ready'])));
  }

  /** @param from the states that it may be in @returns false where it is in another one: nothing was changed */
  async change(id: string, from: readonly ArrivalState[], changes: Partial<ArrivalRow>): Promise<boolean> {
    const [changed] = await this.database.orm
      .update(arrivalTable)
      .set(changes)
      .where(and(eq(arrivalTable.id, id), inArray(arrivalTable.state, [...from])));
    return changed.affectedRows === 1;
  }
}
