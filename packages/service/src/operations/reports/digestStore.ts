/** Digests and their readers, as rows. */
import { Problem } from '@orchard/contract';
import { and, asc, eq, isNotNull, lte } from 'drizzle-orm';
import type { Database } from '../../platform/database/connection.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { digestReaders, digests } from './systemTables.js';

export type DigestRow = typeof digests.$inferSelect;
export type ReaderRow = typeof digestReaders.$inferSelect;

const read = (row: DigestRow): DigestRow => ({ ...row, settings: storedJson(row.settings) as DigestRow['settings'] });

export class DigestStore {
  constructor(private readonly database: Pick<Database, 'orm'>) {}

  get #orm() {
    return this.database.orm;
  }

  async all(): Promise<{ digest: DigestRow; readers: ReaderRow[] }[]> {
    const rows = await this.#orm.select().from(digests).orderBy(asc(digests.name));
    const readers = await this.#orm.select().from(digestReaders).orderBy(asc(digestReaders.id));
    return rows.map((row) => ({ digest: read(row), readers: readers.filter(({ digestId }) => digestId === row.id) }));
  }

  /** @throws {Problem} not-found */
  async demand(id: string): Promise<{ digest: DigestRow; readers: ReaderRow[] }> {
    const [row] = await this.#orm.select().from(digests).where(eq(digests.id, id));
    if (!row) throw new Problem('not-found', `There is no digest ${id}. \`orchard digest list\` lists them.`);
    return { digest: read(row), readers: await this.#orm.select().from(digestReaders).where(eq(digestReaders.digestId, id)) };
  }

  async add(digest: DigestRow, readers: ReaderRow[]): Promise<void> {
    await this.#orm.transaction(async (on) => {
      await on.insert(digests).values(digest);
      await on.insert(digestReaders).values(readers);
    });
  }

  async remove(id: string): Promise<void> {
    await this.#orm.delete(digests).where(eq(digests.id, id));
  }

  async due(now: Date): Promise<{ id: string; nextAt: Date | null }[]> {
    return this.#orm
      .select({ id: digestReaders.id, nextAt: digestReaders.nextAt })
      .from(digestReaders)
      .where(and(lte(digestReaders.nextAt, now), isNotNull(digestReaders.confirmedAt)))
      .orderBy(asc(digestReaders.nextAt))
      .limit(500);
  }

  async reader(id: string): Promise<{ digest: DigestRow; reader: ReaderRow } | undefined> {
    return this.#readerWhere(eq(digestReaders.id, id));
  }

  async readerOf(tokenHash: string): Promise<{ digest: DigestRow; reader: ReaderRow } | undefined> {
    return this.#readerWhere(eq(digestReaders.tokenHash, tokenHash));
  }

  async #readerWhere(condition: ReturnType<typeof eq>): Promise<{ digest: DigestRow; reader: ReaderRow } | undefined> {
    const [row] = await this.#orm
      .select({ digest: digests, reader: digestReaders })
      .from(digestReaders)
      .innerJoin(digests, eq(digests.id, digestReaders.digestId))
      .where(condition);
    return row && { ...row, digest: read(row.digest) };
  }

  async updateReader(id: string, changes: Partial<ReaderRow>): Promise<void> {
    await this.#orm.update(digestReaders).set(changes).where(eq(digestReaders.id, id));
  }

  /** Moves a reader's next time on; false when another instance has done so already. */
  async advance(id: string, from: Date, to: Date): Promise<boolean> {
    const [{ affectedRows }] = await this.#orm
      .update(digestReaders)
      .set({ nextAt: to })
      .where(and(eq(digestReaders.id, id), eq(digestReaders.nextAt, from)));
    return affectedRows === 1;
  }

  async removeReader(id: string): Promise<void> {
    await this.#orm.delete(digestReaders).where(eq(digestReaders.id, id));
  }
}
