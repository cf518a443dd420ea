/** Ways to reach members, and messages to them, as rows. */
import type { MemberWayKind } from '@orchard/contract';
import { and, asc, desc, eq, isNotNull } from 'drizzle-orm';
import type { Database } from '../../platform/database/connection.js';
import { memberMessages, memberWays } from './systemTables.js';

export type WayRow = typeof memberWays.$inferSelect;
export type MessageRow = typeof memberMessages.$inferSelect;

const SHOWN = 30;

export class WayStore {
  constructor(private readonly database: Pick<Database, 'orm'>) {}

  get #orm() {
    return this.database.orm;
  }

  ofMember(memberId: string): Promise<WayRow[]> {
    return this.#orm.select().from(memberWays).where(eq(memberWays.memberId, memberId)).orderBy(asc(memberWays.createdAt));
  }

  async memberAt(number: string): Promise<string | null> {
    const [row] = await this.#orm
      .select({ memberId: memberWays.memberId })
      .from(memberWays)
      .where(and(eq(memberWays.kind, 'sms'), eq(memberWays.address, number), isNotNull(memberWays.verifiedAt)));
    return row?.memberId ?? null;
  }

  async find(id: string): Promise<WayRow | undefined> {
    return (await this.#orm.select().from(memberWays).where(eq(memberWays.id, id)))[0];
  }

  async add(row: typeof memberWays.$inferInsert): Promise<void> {
    await this.#orm.insert(memberWays).values(row);
  }

  async update(id: string, changes: Partial<WayRow>): Promise<void> {
    await this.#orm.update(memberWays).set(changes).where(eq(memberWays.id, id));
  }

  async remove(id: string): Promise<void> {
    await this.#orm.delete(memberWays).where(eq(memberWays.id, id));
  }

  /** The kinds of verified ways, by member. */
  async verified(): Promise<Map<string, MemberWayKind[]>> {
    const rows = await this.#orm
      .selectDistinct({ memberId: memberWays.memberId, kind: memberWays.kind })
      .from(memberWays)
      .where(isNotNull(memberWays.verifiedAt));
    const found = new Map<string, MemberWayKind[]>();
    for (const { memberId, kind } of rows) found.set(memberId, [...(found.get(memberId) ?? []), kind as MemberWayKind]);
    return found;
  }

  async addMessage(row: MessageRow): Promise<void> {
    await this.#orm.insert(memberMessages).values(row);
  }

  async message(id: string): Promise<{ message: MessageRow; way: WayRow } | undefined> {
    const [row] = await this.#orm
      .select({ message: memberMessages, way: memberWays })
      .from(memberMessages)
      .innerJoin(memberWays, eq(memberWays.id, memberMessages.wayId))
      .where(eq(memberMessages.id, id));
    return row;
  }

  async updateMessage(id: string, changes: Partial<MessageRow>): Promise<void> {
    await this.#orm.update(memberMessages).set(changes).where(eq(memberMessages.id, id));
  }

  /** The latest messages to a member. */
  messagesTo(memberId: string): Promise<{ message: MessageRow; kind: string }[]> {
    return this.#orm
      .select({ message: memberMessages, kind: memberWays.kind })
      .from(memberMessages)
      .innerJoin(memberWays, and(eq(memberWays.id, memberMessages.wayId), eq(memberWays.memberId, memberId)))
      .orderBy(desc(memberMessages.createdAt))
      .limit(SHOWN);
  }
}
