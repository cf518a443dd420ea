/** Users and their sessions, as rows. */
import { Problem, type User } from '@orchard/contract';
import type { JsonObject, ValueKind } from '@orchard/core';
import { and, desc, eq, getTableName, inArray, gt, isNotNull, isNull, lte, ne } from 'drizzle-orm';
import { isDuplicate, isReferenceError } from '../../platform/database/errors.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { type Columns, cutPage, type ListGround, type ListRequest, plainColumns, planList } from '../../platform/database/listing.js';
import { feedTable } from '../../platform/live/tables.js';
import { stillReferenced } from '../../platform/database/stillReferenced.js';
import type { Environment } from '../../platform/call.js';
import type { UserRemoval } from '../../platform/ports.js';
import { userFieldColumns, userFieldSql } from './fieldSql.js';
import type { CredentialRow } from './credentials.js';
import { credentialTable, sessionTable, userTable } from './tables.js';

export type UserRow = typeof userTable.$inferSelect;
export type SessionRow = typeof sessionTable.$inferSelect;

const COLUMNS: Columns = new Map(
  plainColumns({
    text: ['id', 'email', 'name', 'phone', 'roles'],
    boolean: ['disabled'],
    time: ['emailConfirmedAt', 'deleteAt', 'createdAt', 'updatedAt', 'lastSeenAt'],
  }),
);

/** The ways a user can come in: `password`, and the names of ways at whose providers the user has an account. */
const waysColumn = ({ db }: Environment): Columns => {
  const way = "IF(c.kind = 'provider', JSON_VALUE(c.verifier, '$.way'), c.kind)";
  const sql = `(SELECT COALESCE(JSON_ARRAYAGG(${way}), '[]') FROM ${db.of(credentialTable)} c WHERE c.userId = ${db.of(userTable)}.id)`;
  return new Map([['ways', { sql, kind: 'list' as const }]]);
};

export function presentUser(row: UserRow): User {
  return {
    id: row.id,
    email: row.email,
    emailConfirmedAt: row.emailConfirmedAt?.toISOString() ?? null,
    name: row.name,
    roles: storedJson(row.roles),
    data: storedJson(row.data),
    disabled: Boolean(row.disabled),
    phone: row.phone,
    phoneVerifiedAt: row.phoneVerifiedAt?.toISOString() ?? null,
    terms: row.terms,
    deleteAt: row.deleteAt?.toISOString() ?? null,
    createdAt: row.createdAt.toISOString(),
    updatedAt: row.updatedAt.toISOString(),
    lastSeenAt: row.lastSeenAt?.toISOString() ?? null,
  };
}

export class UserStore {
  async find(environment: Environment, id: string): Promise<UserRow | null> {
    const users = environment.db.table(userTable);
    return (await environment.db.orm.select().from(users).where(eq(users.id, id)))[0] ?? null;
  }

  /** @throws {Problem} not-found */
  async named(environment: Environment, id: string): Promise<UserRow> {
    const row = await this.find(environment, id);
    if (!row) throw new Problem('not-found', `There is no user ${id} in ${environment.app}/${environment.name}.`);
    return row;
  }

  /** The ids that exist. */
  async known(environment: Environment, ids: readonly string[]): Promise<Set<string>> {
    if (ids.length === 0) return new Set();
    const rows = await environment.db.runRows<{ id: string }>(`SELECT id FROM ${environment.db.of(userTable)} WHERE id IN (?)`, [ids]);
    return new Set(rows.map(({ id }) => id));
  }

  /** Names and addresses of these users, by id. */
  async several({ db }: Environment, ids: readonly string[]): Promise<Map<string, { name: string | null; email: string | null }>> {
    if (ids.length === 0) return new Map();
    const users = db.table(userTable);
    const rows = await db.orm
      .select({ id: users.id, name: users.name, email: users.email })
      .from(users)
      .where(inArray(users.id, [...ids]));
    return new Map(rows.map(({ id, ...user }) => [id, user]));
  }

  async findByEmail(environment: Environment, email: string): Promise<UserRow | null> {
    const users = environment.db.table(userTable);
    return (await environment.db.orm.select().from(users).where(eq(users.email, email)))[0] ?? null;
  }

  /** An account with the hash of its password, by one statement: signing in waits for it. */
  async findToSignIn({ db }: Environment, email: string): Promise<{ user: UserRow | null; hash: string | undefined }> {
    const users = db.table(userTable);
    const credentials = db.table(credentialTable);
    const [row] = await db.orm
      .select({ user: users, hash: credentials.verifier })
      .from(users)
      .leftJoin(credentials, and(eq(credentials.userId, users.id), eq(credentials.kind, 'password')))
      .where(eq(users.email, email));
    return { user: row?.user ?? null, hash: row?.hash ?? undefined };
  }

  async findByCredential({ db }: Environment, kind: string, identifier: string): Promise<UserRow | null> {
    const users = db.table(userTable);
    const credentials = db.table(credentialTable);
    const [row] = await db.orm
      .select({ user: users })
      .from(credentials)
      .innerJoin(users, eq(users.id, credentials.userId))
      .where(and(eq(credentials.kind, kind), eq(credentials.identifier, identifier)));
    return row?.user ?? null;
  }

  /** Credentials of a kind, oldest first. */
  async credentials({ db }: Environment, userId: string, kind: string): Promise<CredentialRow[]> {
    const table = db.table(credentialTable);
    return db.orm
      .select()
      .from(table)
      .where(and(eq(table.userId, userId), eq(table.kind, kind)))
      .orderBy(table.createdAt, table.id);
  }

  async credential(environment: Environment, userId: string, kind: string, identifier: string): Promise<CredentialRow | undefined> {
    return (await this.credentials(environment, userId, kind)).find((row) => row.identifier === identifier);
  }

  async removeCredential({ db }: Environment, userId: string, id: string): Promise<void> {
    const table = db.table(credentialTable);
    await db.orm.delete(table).where(and(eq(table.userId, userId), eq(table.id, id)));
  }

  async addCredential({ db }: Environment, row: CredentialRow): Promise<void> {
    await db.orm
      .insert(db.table(credentialTable))
      .values(row)
      .onDuplicateKeyUpdate({ set: { verifier: row.verifier } });
  }

  async findByVerifiedPhone(environment: Environment, phone: string): Promise<UserRow | null> {
    const users = environment.db.table(userTable);
    const rows = await environment.db.orm
      .select()
      .from(users)
      .where(and(eq(users.phone, phone), isNotNull(users.phoneVerifiedAt)));
    // A number that two have verified tells nobody apart.
    return rows.length === 1 ? (rows[0] ?? null) : null;
  }

  /**
   * Stores an account with its credential, if it has one.
   * @throws {Problem} already-exists
   */
  async insert({ db }: Environment, row: UserRow, credential: CredentialRow | null): Promise<void> {
    try {
      await db.orm.transaction(async (on) => {
        await on.insert(db.table(userTable)).values(row);
        if (credential) await on.insert(db.table(credentialTable)).values(credential);
      });
    } catch (error) {
      if (isDuplicate(error)) throw new Problem('already-exists', `There is an account for ${row.email} already. Sign in with it.`);
      throw error;
    }
  }

  async update(environment: Environment, id: string, changes: Partial<UserRow> & { data?: JsonObject }): Promise<void> {
    const users = environment.db.table(userTable);
    await environment.db.orm.update(users).set(changes).where(eq(users.id, id));
  }

  /**
   * Deletes the user with everything that belongs to that user alone, all or nothing.
   * @throws {Problem} still-referenced
   */
  async remove(removal: Omit<UserRemoval, 'on'>, release: (removal: UserRemoval) => Promise<void>): Promise<boolean> {
    const { environment, userId } = removal;
    const { db } = environment;
    return environment.db.transaction(async (on) => {
      await release({ ...removal, on });
      await on.change(`DELETE FROM ${db.of(sessionTable)} WHERE userId = ?`, [userId]);
      await on.change(`DELETE FROM ${db.of(credentialTable)} WHERE userId = ?`, [userId]);
      try {
        return (await on.change(`DELETE FROM ${db.of(userTable)} WHERE id = ?`, [userId])).affectedRows > 0;
      } catch (error) {
        throw isReferenceError(error) === 'used' ? stillReferenced('users', userId, error) : error;
      }
    });
  }

  /** Takes everything from an account that says whose it is, and every way to sign in; what the feed knew of it goes too. */
  async makeNameless({ db }: Environment, id: string, now: Date): Promise<void> {
    await db.transaction(async (on) => {
      await on.change(`DELETE FROM ${db.of(sessionTable)} WHERE userId = ?`, [id]);
      await on.change(`DELETE FROM ${db.of(credentialTable)} WHERE userId = ?`, [id]);
      await on.change(
        `UPDATE ${db.of(userTable)} SET email = NULL, emailConfirmedAt = NULL, name = NULL, phone = NULL, phoneVerifiedAt = NULL, data = '{}', roles = '[]',
           roleOrigins = NULL, disabled = TRUE, updatedAt = ? WHERE id = ?`,
        [now, id],
      );
      await on.change(`UPDATE ${db.of(feedTable)} SET \`before\` = NULL, \`after\` = NULL WHERE collection = ? AND recordId = ?`, [
        getTableName(userTable),
        id,
      ]);
    });
  }

  /** Data of users in the order of their ids. */
  async dataAfter({ db }: Environment, after: string, most: number): Promise<{ id: string; data: JsonObject }[]> {
    const users = db.table(userTable);
    const rows = await db.orm
      .select({ id: users.id, data: users.data })
      .from(users)
      .where(gt(users.id, after))
      .orderBy(users.id)
      .limit(most);
    return rows.map(({ id, data }) => ({ id, data: storedJson(data) as JsonObject }));
  }

  /** Users in the order of their ids. */
  async after({ db }: Environment, after: string, most: number): Promise<UserRow[]> {
    const users = db.table(userTable);
    return db.orm.select().from(users).where(gt(users.id, after)).orderBy(users.id).limit(most);
  }

  /** Whether somebody has a role by a rule, perhaps by one that is gone. */
  async anyRoleByRule({ db }: Environment): Promise<boolean> {
    const rows = await db.rows(`SELECT 1 FROM ${db.of(userTable)} WHERE JSON_LENGTH(roleOrigins, '$.rule') > 0 LIMIT 1`);
    return rows.length > 0;
  }

  /** How many users have each role. */
  async roleCounts({ db }: Environment): Promise<Map<string, number>> {
    // Most users have no role; `JSON_TABLE` takes a list apart.
    const rows = await db.rows<{ role: string; n: number }>(
      `SELECT r.role, COUNT(*) AS n FROM ${db.of(userTable)} u, JSON_TABLE(u.roles, '$[*]' COLUMNS (role VARCHAR(40) PATH '$')) r
       WHERE u.roles <> '[]' GROUP BY r.role`,
    );
    return new Map(rows.map(({ role, n }) => [role, Number(n)]));
  }

  /** Accounts whose grace is over. */
  async dueForDeletion({ db }: Environment, now: Date): Promise<UserRow[]> {
    const users = db.table(userTable);
    return db.orm.select().from(users).where(lte(users.deleteAt, now)).limit(100);
  }

  /** @param kinds the fields that the team has defined */
  async list(environment: Environment, request: ListRequest, ground: ListGround, kinds: ReadonlyMap<string, ValueKind> = new Map()) {
    const columns: Columns = new Map([
      ...userFieldColumns(kinds, '', (name, kind) => userFieldSql('data', name, kind)),
      ...COLUMNS,
      ...waysColumn(environment),
    ]);
    const plan = planList(columns, request, { field: 'id', descending: true }, ground);
    const sorted = plan.sort.filter(({ name }) => kinds.has(name)).map(({ name, sql }) => `, ${sql.sql} AS \`${name}\``);
    const rows = await environment.db.rows<UserRow>(
      `SELECT *${sorted.join('')} FROM ${environment.db.of(userTable)} WHERE ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      plan.values,
    );
    return cutPage(rows, plan, ground, (row, field) => row[field as keyof UserRow], presentUser);
  }

  async insertSession(environment: Environment, row: SessionRow): Promise<void> {
    await environment.db.orm.insert(environment.db.table(sessionTable)).values(row);
  }

  async findSession(environment: Environment, id: string): Promise<{ session: SessionRow; user: UserRow } | null> {
    const sessions = environment.db.table(sessionTable);
    const users = environment.db.table(userTable);
    const [row] = await environment.db.orm
      .select({ session: sessions, user: users })
      .from(sessions)
      .innerJoin(users, eq(users.id, sessions.userId))
      .where(eq(sessions.id, id));
    return row ?? null;
  }

  /** Moves a session to its next generation; false when it is not at `generation` any more, or has ended. */
  async advanceSession(environment: Environment, id: string, generation: number, expiresAt: Date, now: Date): Promise<boolean> {
    const sessions = environment.db.table(sessionTable);
    const [result] = await environment.db.orm
      .update(sessions)
      .set({ generation: generation + 1, expiresAt, renewedAt: now })
      .where(and(eq(sessions.id, id), eq(sessions.generation, generation), isNull(sessions.endedAt)));
    return result.affectedRows === 1;
  }

  /** Those that are open, latest first. */
  async openSessions({ db }: Environment, userId: string, now: Date): Promise<SessionRow[]> {
    const sessions = db.table(sessionTable);
    return db.orm
      .select()
      .from(sessions)
      .where(and(eq(sessions.userId, userId), isNull(sessions.endedAt), gt(sessions.expiresAt, now)))
      .orderBy(desc(sessions.createdAt), desc(sessions.id));
  }

  async endSessions(
    environment: Environment,
    which: { id: string } | { userId: string; except?: string | null },
    at: Date,
    reason: string,
  ): Promise<void> {
    const sessions = environment.db.table(sessionTable);
    const condition =
      'id' in which ? eq(sessions.id, which.id) : and(eq(sessions.userId, which.userId), ne(sessions.id, which.except ?? ''));
    await environment.db.orm
      .update(sessions)
      .set({ endedAt: at, endedReason: reason })
      .where(and(condition, isNull(sessions.endedAt)));
  }

  /** Roles and data of users by session, for valid sessions. */
  async goodSessions(environment: Environment, ids: readonly string[], now: Date): Promise<Map<string, Pick<UserRow, 'roles' | 'data'>>> {
    const { db } = environment;
    const rows = await environment.db.runRows<{ id: string; roles: string[] | string; data: JsonObject }>(
      `SELECT s.id, u.roles, u.data FROM ${db.of(sessionTable)} s JOIN ${db.of(userTable)} u ON u.id = s.userId
       WHERE s.id IN (?) AND s.endedAt IS NULL AND s.expiresAt > ? AND NOT u.disabled`,
      [ids, now],
    );
    return new Map(rows.map(({ id, roles, data }) => [id, { roles: storedJson(roles) as string[], data }]));
  }
}
