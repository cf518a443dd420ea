/** Phone numbers and mail addresses that opted out, as rows. */
import type { Environment } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import { type Columns, type ListGround, type ListRequest, listRows, plainColumns } from '../../platform/database/listing.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { optOutTable } from './tables.js';

export type OptOut = typeof optOutTable.$inferSelect;
const COLUMNS: Columns = new Map(plainColumns({ text: ['way', 'address', 'state', 'because'], time: ['at'] }));

export class OptOutStore {
  list({ db }: Environment, request: ListRequest, ground: ListGround) {
    const listed = {
      select: `SELECT * FROM ${db.of(optOutTable)}`,
      columns: COLUMNS,
      sort: '-at',
      tie: { field: 'address', descending: true },
    };
    return listRows(db, listed, request, ground, (row: OptOut) => ({ ...row, at: row.at.toISOString() }));
  }

  async write({ db }: Environment, row: OptOut, on: Pick<Statements, 'change'> = db): Promise<void> {
    await on.change(`REPLACE INTO ${db.of(optOutTable)} (way, address, state, because, at) VALUES (?, ?, ?, ?, ?)`, [
      row.way,
      row.address,
      row.state,
      row.because.slice(0, 200),
      row.at,
    ]);
  }

  /** @returns whether there was one */
  async remove({ db }: Environment, way: string, address: string): Promise<boolean> {
    return (await db.change(`DELETE FROM ${db.of(optOutTable)} WHERE way = ? AND address = ?`, [way, address])).affectedRows > 0;
  }

  /** Which of some numbers or addresses have opted out. */
  async among({ db }: Environment, way: string, addresses: readonly string[], on: Pick<Statements, 'runRows'> = db): Promise<Set<string>> {
    const rows = await on.runRows<{ address: string }>(
      `SELECT address FROM ${db.of(optOutTable)} WHERE way = ? AND state = 'out' AND address IN (?)`,
      [way, addresses],
    );
    return new Set(rows.map(({ address }) => address));
  }
}

/** Whether an address has opted out, as SQL. @param address an expression of SQL */
export const hasOptedOutSql = ({ db }: Environment, way: string, address: string): string =>
  `EXISTS (SELECT 1 FROM ${db.of(optOutTable)} o WHERE o.way = '${way}' AND o.address = ${address} AND o.state = 'out')`;

/** Opt-outs as `o`, joined to the way and address of a row. */
export const joinOptOutsSql = (db: EnvironmentDatabase, way: string, address: string): string =>
  `LEFT JOIN ${db.of(optOutTable)} o ON o.way = ${way} AND o.address = ${address} AND o.state = 'out'`;
