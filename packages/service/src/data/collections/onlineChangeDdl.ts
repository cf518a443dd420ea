/**
 * Another type for a field, while the collection is in use. A new column is filled beside the old one in batches; a trigger
 * marks the records whose value changes meanwhile, and they are filled again. At the end writes of the field are held
 * briefly: the last marked records are filled, and the columns are swapped.
 */
import { convertValue, type Field, type Json } from '@orchard/core';
import type { PoolConnection, RowDataPacket } from 'mysql2/promise';
import { columnType, presentValue, stored } from './columns.js';
import type { CollectionShape } from './shape.js';

const CHUNK = 500;
/** The most marked records that are left to fill while writes are held. */
const FEW = 100;
/** How long a change of triggers may wait for a transaction that has the table, while other writes queue behind it. */
const LOCK_WAIT_S = 1;
const LOCK_TRIES = 30;
/** The message of a held write; see {@link isHeld}. */
const HELD = 'orchard: the field is changing its type';

type Change = { name: string; present: Field; field: Field };
type Row = RowDataPacket & { id: string; version: number; value: unknown };

/** Whether a write was held because its field is changing its type; it can be retried shortly. */
export const isHeld = (error: unknown): boolean => {
  const { message = '', cause } = (error ?? {}) as { message?: string; cause?: unknown };
  return message.includes(HELD) || (cause !== undefined && isHeld(cause));
};

export class OnlineChange {
  readonly #fresh: string;
  readonly #marked: string;

  constructor(
    private readonly connection: PoolConnection,
    private readonly shape: CollectionShape,
    private readonly change: Change,
    /** Called for a value that cannot be converted; it becomes NULL, unless this throws. */
    private readonly misfit: (id: string, value: Json) => void,
  ) {
    this.#fresh = `_n_${change.name}`.slice(0, 64);
    this.#marked = `_m_${change.name}`.slice(0, 64);
  }

  /** The column that holds the converted values, once {@link fill} and {@link hold} are through. */
  get column(): string {
    return this.#fresh;
  }

  /** Fills the new column until few records are left to fill. Reads and writes go on. */
  async fill(): Promise<void> {
    await this.#prepare();
    await this.connection.query('SET @orchard_quiet := 1');
    while ((await this.#fillBatch(CHUNK)) >= FEW);
  }

  /** Holds writes of the field, and fills what is left. The columns can be swapped now. */
  async hold(): Promise<void> {
    const { name } = this.change;
    await this.#trigger('UPDATE', `IF NOT (NEW.\`${name}\` <=> OLD.\`${name}\`) THEN ${signal} END IF`);
    await this.#trigger('INSERT', `IF NEW.\`${name}\` IS NOT NULL THEN ${signal} END IF`);
    while ((await this.#fillBatch(CHUNK)) > 0);
  }

  /** Releases writes of the field, and drops what the change needed. Also after an interrupted change. */
  async release(): Promise<void> {
    const { connection, shape } = this;
    await connection.query('SET @orchard_quiet := 0');
    for (const event of ['UPDATE', 'INSERT'] as const) await connection.query(`DROP TRIGGER IF EXISTS ${this.#triggerName(event)}`);
    await connection.query(
      `ALTER TABLE ${shape.table} DROP INDEX IF EXISTS \`${this.#marked}\`, DROP COLUMN IF EXISTS \`${this.#marked}\`, DROP COLUMN IF EXISTS \`${this.#fresh}\``,
    );
  }

  async #prepare(): Promise<void> {
    const { connection, shape, change } = this;
    await this.release();
    // Every record is marked at first: the column's default says so without touching a row.
    await connection.query(
      `ALTER TABLE ${shape.table} ADD COLUMN \`${this.#fresh}\` ${columnType(change.field)} NULL, ADD COLUMN \`${this.#marked}\` TINYINT NOT NULL DEFAULT 1`,
    );
    await connection.query(`ALTER TABLE ${shape.table} ADD INDEX \`${this.#marked}\` (\`${this.#marked}\`)`);
    await this.#trigger(
      'UPDATE',
      `IF NOT (NEW.\`${change.name}\` <=> OLD.\`${change.name}\`) THEN SET NEW.\`${this.#marked}\` = 1; END IF`,
    );
  }

  /** Fills some marked records. @returns how many there were */
  async #fillBatch(most: number): Promise<number> {
    const { connection, shape, change } = this;
    const [rows] = await connection.query<Row[]>(
      `SELECT id, version, \`${change.name}\` AS value FROM ${shape.table} WHERE \`${this.#marked}\` = 1 LIMIT ${most}`,
    );
    if (rows.length === 0) return 0;
    const bound: unknown[] = [];
    const cases = rows.map(({ id, value }) => {
      const before = presentValue(change.present.type, value);
      const after = convertValue(before, change.field);
      if (after === undefined) this.misfit(id, before);
      const cell = stored(change.field.type, after ?? null);
      bound.push(id, ...cell.values);
      return `WHEN ? THEN ${cell.sql}`;
    });
    // Each write raises the version: a record that was written since it was read stays marked.
    await connection.query(
      `UPDATE ${shape.table} SET \`${this.#fresh}\` = CASE id ${cases.join(' ')} END, \`${this.#marked}\` = 0 WHERE (id, version) IN (?)`,
      [...bound, rows.map(({ id, version }) => [id, version])],
    );
    return rows.length;
  }

  /** It waits a second at a time for a transaction that holds the table, so that other writes pass in between. */
  async #trigger(event: 'UPDATE' | 'INSERT', body: string): Promise<void> {
    const { connection, shape } = this;
    await connection.query(`SET SESSION lock_wait_timeout = ${LOCK_WAIT_S}`);
    for (let tries = 1; ; tries++) {
      try {
        await connection.query(
          `CREATE OR REPLACE TRIGGER ${this.#triggerName(event)} BEFORE ${event} ON ${shape.table} FOR EACH ROW ${body}`,
        );
        await connection.query('SET SESSION lock_wait_timeout = DEFAULT');
        return;
      } catch (error) {
        if ((error as { code?: string }).code !== 'ER_LOCK_WAIT_TIMEOUT' || tries === LOCK_TRIES) throw error;
      }
    }
  }

  #triggerName(event: 'UPDATE' | 'INSERT'): string {
    return this.shape.db.collection(`_online_${event.toLowerCase()}_${this.shape.name}`.slice(0, 64));
  }
}

const signal = `SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = '${HELD}';`;
