/** Backups, restores and erasures, as rows. */
import { and, desc, eq, getTableName, inArray, isNotNull, lt } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import type { Database, Statements } from '../../platform/database/connection.js';
import type { ArchiveOf } from './archive.js';
import { backupTable, erasureTable, restoreTable } from './systemTables.js';

export type BackupRow = typeof backupTable.$inferSelect;
export type RestoreRow = typeof restoreTable.$inferSelect;

const ofEnvironment = <T extends typeof backupTable | typeof restoreTable>(table: T, { app, environment }: ArchiveOf) =>
  and(eq(table.app, app), eq(table.environment, environment));

export class BackupStore {
  constructor(private readonly database: Pick<Database, 'orm'>) {}

  get #orm() {
    return this.database.orm;
  }

  async add(row: typeof backupTable.$inferInsert): Promise<BackupRow> {
    await this.#orm.insert(backupTable).ignore().values(row);
    return (await this.find(row.id)) as BackupRow;
  }

  async find(id: string): Promise<BackupRow | null> {
    return (await this.#orm.select().from(backupTable).where(eq(backupTable.id, id)))[0] ?? null;
  }

  /** The newest first. */
  list(of: ArchiveOf): Promise<BackupRow[]> {
    return this.#orm
      .select()
      .from(backupTable)
      .where(ofEnvironment(backupTable, of))
      .orderBy(desc(backupTable.askedAt), desc(backupTable.id));
  }

  async change(id: string, changes: Partial<BackupRow>): Promise<void> {
    await this.#orm.update(backupTable).set(changes).where(eq(backupTable.id, id));
  }

  async remove(ids: readonly string[]): Promise<void> {
    if (ids.length > 0) await this.#orm.delete(backupTable).where(inArray(backupTable.id, [...ids]));
  }

  async addRestore(row: typeof restoreTable.$inferInsert): Promise<RestoreRow> {
    await this.#orm.insert(restoreTable).values(row);
    return (await this.findRestore(row.id)) as RestoreRow;
  }

  async findRestore(id: string): Promise<RestoreRow | null> {
    return (await this.#orm.select().from(restoreTable).where(eq(restoreTable.id, id)))[0] ?? null;
  }

  restores(of: ArchiveOf): Promise<RestoreRow[]> {
    return this.#orm.select().from(restoreTable).where(ofEnvironment(restoreTable, of)).orderBy(desc(restoreTable.at)).limit(100);
  }

  /** Those whose replaced environment is kept no longer. */
  over(now: Date): Promise<RestoreRow[]> {
    return this.#orm
      .select()
      .from(restoreTable)
      .where(and(isNotNull(restoreTable.replaced), lt(restoreTable.replacedUntil, now)));
  }

  async changeRestore(id: string, changes: Partial<RestoreRow>): Promise<void> {
    await this.#orm.update(restoreTable).set(changes).where(eq(restoreTable.id, id));
  }

  /** Who was erased in an environment, and when. */
  async erasures({ app, environment }: ArchiveOf): Promise<Map<string, Date>> {
    const rows = await this.#orm
      .select()
      .from(erasureTable)
      .where(and(eq(erasureTable.app, app), eq(erasureTable.environment, environment)));
    return new Map(rows.map(({ userId, at }) => [userId, at]));
  }

  /** Environments with erasures that the list beside the backups does not have yet. */
  async unkeptErasures(): Promise<ArchiveOf[]> {
    return this.#orm
      .selectDistinct({ app: erasureTable.app, environment: erasureTable.environment })
      .from(erasureTable)
      .where(eq(erasureTable.kept, false));
  }

  async erasuresKept({ app, environment }: ArchiveOf, userIds: readonly string[]): Promise<void> {
    if (userIds.length === 0) return;
    await this.#orm
      .update(erasureTable)
      .set({ kept: true })
      .where(and(eq(erasureTable.app, app), eq(erasureTable.environment, environment), inArray(erasureTable.userId, [...userIds])));
  }
}

/** Raw, since it is part of a transaction of another database on the same server. */
export async function noteErasure(
  on: Statements,
  system: string,
  { app, name }: Pick<Environment, 'app' | 'name'>,
  userId: string,
  at: Date,
): Promise<void> {
  await on.change(
    `INSERT INTO \`${system}\`.\`${getTableName(erasureTable)}\` (app, environment, userId, at) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE at = VALUES(at), kept = FALSE`,
    [app, name, userId, at],
  );
}
