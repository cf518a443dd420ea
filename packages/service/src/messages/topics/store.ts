/** Topics and who follows them, as rows. */
import type { Topic } from '@orchard/contract';
import type { Statements } from '../../platform/database/connection.js';
import { type Columns, cutPage, type ListGround, type ListRequest, plainColumns, planList } from '../../platform/database/listing.js';
import type { Environment } from '../../platform/call.js';
import { followTable, topicTable } from './tables.js';

export type Follower = { kind: 'device' | 'user'; id: string };
type TopicRow = {
  name: string;
  title: string | null;
  role: string | null;
  createdBy: string;
  createdAt: Date;
  devices?: number;
  users?: number;
};

const counted = (kind: string) => `(SELECT COUNT(*) FROM _follows f WHERE f.topic = t.name AND f.kind = '${kind}')`;
const COLUMNS: Columns = new Map(plainColumns({ text: ['name', 'title', 'role'], number: ['devices', 'users'], time: ['createdAt'] }));

const present = ({ actors }: Environment, row: TopicRow): Topic => ({
  ...row,
  createdBy: actors.show(row.createdBy),
  devices: Number(row.devices ?? 0),
  users: Number(row.users ?? 0),
  createdAt: row.createdAt.toISOString(),
});

export class TopicStore {
  #withCounts({ db }: Environment): string {
    const count = (kind: string) => counted(kind).replace('_follows', `${db.of(followTable)}`);
    return `SELECT t.name, t.title, t.role, t.createdBy, t.createdAt, ${count('device')} AS devices, ${count('user')} AS users FROM ${db.of(topicTable)} t`;
  }

  async find(environment: Environment, name: string): Promise<Topic | null> {
    const [row] = await environment.db.rows<TopicRow>(`${this.#withCounts(environment)} WHERE t.name = ?`, [name]);
    return row ? present(environment, row) : null;
  }

  async list(environment: Environment, request: ListRequest, ground: ListGround) {
    const plan = planList(COLUMNS, { ...request, sort: request.sort || 'name' }, { field: 'name', descending: false }, ground);
    const rows = await environment.db.rows<TopicRow>(
      `SELECT * FROM (${this.#withCounts(environment)}) AS listed WHERE ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      plan.values,
    );
    return cutPage(
      rows,
      plan,
      ground,
      (row, field) => row[field as keyof TopicRow],
      (row) => present(environment, row),
    );
  }

  async names(environment: Environment, most = 500): Promise<string[]> {
    const rows = await environment.db.rows<{ name: string }>(
      `SELECT name FROM ${environment.db.of(topicTable)} ORDER BY name LIMIT ${most}`,
    );
    return rows.map(({ name }) => name);
  }

  /** Creates the topic if there is none; true when it was created. */
  async ensure(environment: Environment, name: string, by: string, now: Date): Promise<boolean> {
    const { affectedRows } = await environment.db.change(
      `INSERT IGNORE INTO ${environment.db.of(topicTable)} (name, createdBy, createdAt) VALUES (?, ?, ?)`,
      [name, by, now],
    );
    return affectedRows === 1;
  }

  async change(
    environment: Environment,
    name: string,
    changes: { title?: string | null | undefined; role?: string | null | undefined },
  ): Promise<void> {
    const given = Object.entries(changes).filter(([, value]) => value !== undefined);
    if (given.length === 0) return;
    await environment.db.change(
      `UPDATE ${environment.db.of(topicTable)} SET ${given.map(([column]) => `${column} = ?`).join(', ')} WHERE name = ?`,
      [...given.map(([, value]) => value), name],
    );
  }

  remove(environment: Environment, name: string): Promise<boolean> {
    return environment.db.transaction(async (on) => {
      await on.change(`DELETE FROM ${environment.db.of(followTable)} WHERE topic = ?`, [name]);
      return (await on.change(`DELETE FROM ${environment.db.of(topicTable)} WHERE name = ?`, [name])).affectedRows > 0;
    });
  }

  async follow(environment: Environment, topic: string, followers: Follower[], now: Date): Promise<void> {
    if (followers.length === 0) return;
    await environment.db.run(`INSERT IGNORE INTO ${environment.db.of(followTable)} (topic, kind, follower, at) VALUES ?`, [
      followers.map(({ kind, id }) => [topic, kind, id, now]),
    ]);
  }

  async unfollow(environment: Environment, topic: string, followers: Follower[]): Promise<void> {
    for (const kind of ['device', 'user'] as const) {
      const ids = followers.filter((follower) => follower.kind === kind).map(({ id }) => id);
      if (ids.length > 0)
        await environment.db.run(`DELETE FROM ${environment.db.of(followTable)} WHERE topic = ? AND kind = ? AND follower IN (?)`, [
          topic,
          kind,
          ids,
        ]);
    }
  }

  /** Deletes the follows of a removed follower. */
  async forget(on: Statements, environment: Environment, { kind, id }: Follower): Promise<void> {
    await on.change(`DELETE FROM ${environment.db.of(followTable)} WHERE kind = ? AND follower = ?`, [kind, id]);
  }

  /** Topics of a device and of its user. */
  async followedBy(
    environment: Environment,
    deviceId: string | null,
    userId: string | null,
  ): Promise<{ topic: string; via: 'device' | 'user'; at: string }[]> {
    const rows = await environment.db.rows<{ topic: string; kind: 'device' | 'user'; at: Date }>(
      `SELECT topic, kind, at FROM ${environment.db.of(followTable)} WHERE (kind = 'device' AND follower = ?) OR (kind = 'user' AND follower = ?) ORDER BY topic`,
      [deviceId ?? '', userId ?? ''],
    );
    return rows.map(({ topic, kind, at }) => ({ topic, via: kind, at: at.toISOString() }));
  }
}
