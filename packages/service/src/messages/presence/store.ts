/** Listeners of a channel, as rows: one for each open stream on any instance. */
import type { Presence } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import type { SqlCondition } from '../../platform/database/sqlCondition.js';
import { presenceTable } from './tables.js';

/** An open stream renews this. */
export const PRESENT_MS = 30_000;

export class PresenceStore {
  async enter(
    environment: Environment,
    at: { channel: string; stream: string; userId: string | null; deviceId: string | null },
    now: number,
  ): Promise<void> {
    await environment.db.change(
      `INSERT INTO ${environment.db.of(presenceTable)} (channel, stream, userId, deviceId, since, until) VALUES (?, ?, ?, ?, ?, ?)`,
      [at.channel, at.stream, at.userId, at.deviceId, new Date(now), new Date(now + PRESENT_MS)],
    );
  }

  async stay(environment: Environment, streams: readonly string[], now: number): Promise<void> {
    if (streams.length > 0)
      await environment.db.run(`UPDATE ${environment.db.of(presenceTable)} SET until = ? WHERE stream IN (?)`, [
        new Date(now + PRESENT_MS),
        streams,
      ]);
  }

  /** Forgets a stream that was closed, and those of instances that crashed. */
  async leave(environment: Environment, channel: string, stream: string, now: number): Promise<void> {
    await environment.db.change(`DELETE FROM ${environment.db.of(presenceTable)} WHERE (channel = ? AND stream = ?) OR until < ?`, [
      channel,
      stream,
      new Date(now - PRESENT_MS),
    ]);
  }

  async read(environment: Environment, channel: string, now: number): Promise<Presence> {
    const rows = await environment.db.rows<{ userId: string | null; since: Date }>(
      `SELECT userId, MIN(since) AS since FROM ${environment.db.of(presenceTable)} WHERE channel = ? AND until > ? GROUP BY COALESCE(userId, stream), userId ORDER BY since LIMIT 1000`,
      [channel, new Date(now)],
    );
    return {
      listening: rows.length,
      users: rows.flatMap(({ userId, since }) => (userId ? [{ userId, since: since.toISOString() }] : [])),
    };
  }
}

/** Whether the device `v` or its user listens on a channel. */
export const listensSql = ({ db }: Environment, channel: string, now: Date): SqlCondition => ({
  sql: `EXISTS (SELECT 1 FROM ${db.of(presenceTable)} p WHERE p.channel = ? AND p.until > ? AND (p.deviceId = v.id OR p.userId = v.userId))`,
  values: [channel, now],
});

/** How many streams are open on the channel `c`; bound to the present time. */
export const listenersSql = ({ db }: Environment): string =>
  `(SELECT COUNT(*) FROM ${db.of(presenceTable)} p WHERE p.channel = c.name AND p.until > ?)`;
