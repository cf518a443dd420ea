/** Upstreams and what was recorded of them, as rows. */
import type { UpstreamDefinition } from '@orchard/contract';
import { and, asc, count, eq, max } from 'drizzle-orm';
import { storedJson } from '../../platform/database/storedJson.js';
import type { Environment } from '../../platform/call.js';
import { upstreamRecordingTable, upstreamTable } from './tables.js';

export type UpstreamRow = typeof upstreamTable.$inferSelect;
export type RecordingRow = typeof upstreamRecordingTable.$inferSelect;

export const definitionOf = ({ definition }: Pick<UpstreamRow, 'definition'>): UpstreamDefinition =>
  storedJson(definition as never) as unknown as UpstreamDefinition;

export class UpstreamStore {
  list({ db }: Environment): Promise<UpstreamRow[]> {
    const table = db.table(upstreamTable);
    return db.orm.select().from(table).orderBy(asc(table.name));
  }

  async find({ db }: Environment, name: string): Promise<UpstreamRow | null> {
    const table = db.table(upstreamTable);
    return (await db.orm.select().from(table).where(eq(table.name, name)))[0] ?? null;
  }

  /** A text that changes whenever an upstream of the environment does. */
  async mark({ db }: Environment): Promise<string> {
    const table = db.table(upstreamTable);
    const [row] = await db.orm.select({ n: count(), at: max(table.changedAt) }).from(table);
    return `${row?.n} ${row?.at?.getTime()}`;
  }

  async put({ db }: Environment, row: UpstreamRow): Promise<void> {
    const { name: _, createdBy: _b, ...changing } = row;
    await db.orm.insert(db.table(upstreamTable)).values(row).onDuplicateKeyUpdate({ set: changing });
  }

  async change({ db }: Environment, name: string, changes: Partial<UpstreamRow>): Promise<void> {
    const table = db.table(upstreamTable);
    await db.orm.update(table).set(changes).where(eq(table.name, name));
  }

  async remove({ db }: Environment, name: string): Promise<void> {
    const [table, recordings] = [db.table(upstreamTable), db.table(upstreamRecordingTable)];
    await db.orm.transaction(async (on) => {
      await on.delete(table).where(eq(table.name, name));
      await on.delete(recordings).where(eq(recordings.upstream, name));
    });
  }

  async recorded({ db }: Environment): Promise<Map<string, number>> {
    const table = db.table(upstreamRecordingTable);
    const rows = await db.orm.select({ upstream: table.upstream, n: count() }).from(table).groupBy(table.upstream);
    return new Map(rows.map(({ upstream, n }) => [upstream, n]));
  }

  async record({ db }: Environment, row: RecordingRow): Promise<void> {
    const { upstream: _u, mark: _m, ...changing } = row;
    await db.orm.insert(db.table(upstreamRecordingTable)).values(row).onDuplicateKeyUpdate({ set: changing });
  }

  async recording({ db }: Environment, upstream: string, mark: string): Promise<RecordingRow | null> {
    const table = db.table(upstreamRecordingTable);
    return (
      (
        await db.orm
          .select()
          .from(table)
          .where(and(eq(table.upstream, upstream), eq(table.mark, mark)))
      )[0] ?? null
    );
  }

  async forget({ db }: Environment, upstream: string): Promise<number> {
    const table = db.table(upstreamRecordingTable);
    const [{ affectedRows }] = await db.orm.delete(table).where(eq(table.upstream, upstream));
    return affectedRows;
  }
}
