/** Users and their sessions, as rows. */
import { Problem, type User } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { and, eq, isNull, ne } from 'drizzle-orm';
import { type Database, isDuplicate } from '../database/connection.js';
import type { Shapes } from '../collections/catalogue.js';
import { type Deletion, releaseReferences } from '../collections/references.js';
import { writeProblem } from '../collections/writes.js';
import { tablesOf } from '../database/environmentTables.js';
import { storedJson } from '../database/storedJson.js';
import { type Columns, cutPage, type ListGround, type ListRequest, plainColumns, planList } from '../database/listing.js';
import type { Environment } from '../http/call.js';

export type UserRow = ReturnType<typeof tablesOf>['users']['$inferSelect'];
export type SessionRow = ReturnType<typeof tablesOf>['sessions']['$inferSelect'];

const COLUMNS: Columns = new Map(
  plainColumns({ text: ['id', 'email', 'name', 'phone', 'roles'], boolean: ['disabled'], time: ['createdAt', 'updatedAt', 'lastSeenAt'] }),
);

export function presentUser(row: UserRow): User {
  return {
    id: row.id,
    email: row.email,
    name: row.name,
    roles: storedJson(row.roles),
    data: storedJson(row.data),
    disabled: Boolean(row.disabled),
    phone: row.phone,
    phoneVerifiedAt: row.phoneVerifiedAt?.toISOString() ?? null,
    createdAt: row.createdAt.toISOString(),
    updatedAt: row.updatedAt.toISOString(),
    lastSeenAt: row.lastSeenAt?.toISOString() ?? null,
  };
}

export class UserStore {
  constructor(private readonly database: Database) {}

  async find(environment: Environment, id: string): Promise<UserRow | null> {
    const { users } = tablesOf(environment.database);
    return (await this.database.orm.select().from(users).where(eq(users.id, id)))[0] ?? null;
  }

  /** Those of the ids that there are. */
  async known(environment: Environment, ids: readonly string[]): Promise<Set<string>> {
    if (ids.length === 0) return new Set();
    const rows = await this.database.runRows<{ id: string }>(`SELECT id FROM \`${environment.database}\`._users WHERE id IN (?)`, [ids]);
    return new Set(rows.map(({ id }) => id));
  }

  async findByEmail(environment: Environment, email: string): Promise<UserRow | null> {
    const { users } = tablesOf(environment.database);
    return (await this.database.orm.select().from(users).where(eq(users.email, email)))[0] ?? null;
  }

  /** @throws {Problem} already-exists */
  async insert(environment: Environment, row: UserRow): Promise<void> {
    try {
      await this.database.orm.insert(tablesOf(environment.database).users).values(row);
    } catch (error) {
      if (isDuplicate(error)) throw new Problem('already-exists', `There is an account for ${row.email} already. Sign in with it.`);
      throw error;
    }
  }

  async update(environment: Environment, id: string, changes: Partial<UserRow> & { data?: JsonObject }): Promise<void> {
    const { users } = tablesOf(environment.database);
    await this.database.orm.update(users).set(changes).where(eq(users.id, id));
  }

  /** Deletes the user, ends their sessions, detaches their devices, and lets go what refers to them, all or nothing. */
  async remove(environment: Environment, id: string, shapes: Shapes, deletion: Deletion): Promise<boolean> {
    const { database } = environment;
    return this.database.transaction(async (on) => {
      await releaseReferences(on, shapes, 'users', id, deletion);
      try {
        const { affectedRows } = await on.change(`DELETE FROM \`${database}\`._users WHERE id = ?`, [id]);
        await on.change(`DELETE FROM \`${database}\`._sessions WHERE userId = ?`, [id]);
        await on.change(`UPDATE \`${database}\`._devices SET userId = NULL WHERE userId = ?`, [id]);
        await on.change(`DELETE FROM \`${database}\`._follows WHERE kind = 'user' AND follower = ?`, [id]);
        await on.change(`DELETE FROM \`${database}\`._userLinks WHERE userId = ?`, [id]);
        return affectedRows > 0;
      } catch (error) {
        throw writeProblem(error, shapes.users, { id, values: {} });
      }
    });
  }

  async list(environment: Environment, request: ListRequest, ground: ListGround) {
    const plan = planList(COLUMNS, request, { field: 'id', descending: true }, ground);
    const rows = await this.database.rows<UserRow>(
      `SELECT * FROM \`${environment.database}\`._users WHERE ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      plan.values,
    );
    return cutPage(rows, plan, ground, (row, field) => row[field as keyof UserRow], presentUser);
  }

  async releaseDevice(environment: Environment, deviceId: string, userId: string, now: Date): Promise<void> {
    await this.database.change(`UPDATE \`${environment.database}\`._devices SET userId = NULL, updatedAt = ? WHERE id = ? AND userId = ?`, [
      now,
      deviceId,
      userId,
    ]);
  }

  async insertSession(environment: Environment, row: SessionRow): Promise<void> {
    await this.database.orm.insert(tablesOf(environment.database).sessions).values(row);
  }

  async findSession(environment: Environment, id: string): Promise<{ session: SessionRow; user: UserRow } | null> {
    const { sessions, users } = tablesOf(environment.database);
    const [row] = await this.database.orm
      .select({ session: sessions, user: users })
      .from(sessions)
      .innerJoin(users, eq(users.id, sessions.userId))
      .where(eq(sessions.id, id));
    return row ?? null;
  }

  /** Moves a session to its next generation; false when it is not at `generation` any more, or has ended. */
  async advanceSession(environment: Environment, id: string, generation: number, expiresAt: Date, now: Date): Promise<boolean> {
    const { sessions } = tablesOf(environment.database);
    const [result] = await this.database.orm
      .update(sessions)
      .set({ generation: generation + 1, expiresAt, renewedAt: now })
      .where(and(eq(sessions.id, id), eq(sessions.generation, generation), isNull(sessions.endedAt)));
    return result.affectedRows === 1;
  }

  async endSessions(
    environment: Environment,
    which: { id: string } | { userId: string; except?: string | null },
    at: Date,
    reason: string,
  ): Promise<void> {
    const { sessions } = tablesOf(environment.database);
    const condition =
      'id' in which ? eq(sessions.id, which.id) : and(eq(sessions.userId, which.userId), ne(sessions.id, which.except ?? ''));
    await this.database.orm
      .update(sessions)
      .set({ endedAt: at, endedReason: reason })
      .where(and(condition, isNull(sessions.endedAt)));
  }
}
