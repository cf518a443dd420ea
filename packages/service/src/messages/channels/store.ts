/** Channels, their messages and who listens, as rows. */
import type { Channel, ChannelMessage, Presence } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { Database } from '../../platform/database/connection.js';
import { storedJson } from '../../platform/database/storedJson.js';
import type { Environment } from '../../platform/call.js';

export type ChannelRules = { listen: string; publish: string };
export type ChannelRow = { name: string; rules: ChannelRules; keep: number; createdBy: string; createdAt: Date };
type MessageRow = { number: number; data: JsonObject | string; sender: string; at: Date };

export const SIGNED_IN = "me('id') IS NOT NULL";
/** Those who listen must have had time to read a message before it is let go. */
const READ_WITHIN_MS = 60_000;
/** A stream shows that it is open by moving this on. */
export const PRESENT_MS = 30_000;

const presentMessage = (row: MessageRow): ChannelMessage => ({
  number: Number(row.number),
  data: storedJson(row.data),
  sender: row.sender,
  at: row.at.toISOString(),
});

export class ChannelStore {
  constructor(private readonly database: Database) {}

  async find(environment: Environment, name: string): Promise<ChannelRow | null> {
    const [row] = await this.database.rows<ChannelRow>(`SELECT * FROM \`${environment.database}\`._channels WHERE name = ?`, [name]);
    return row ? { ...row, rules: storedJson(row.rules) } : null;
  }

  /** Makes the channel if there is none; true when it was made. */
  async ensure(environment: Environment, row: ChannelRow): Promise<boolean> {
    const { affectedRows } = await this.database.change(
      `INSERT IGNORE INTO \`${environment.database}\`._channels (name, rules, keep, createdBy, createdAt) VALUES (?, ?, ?, ?, ?)`,
      [row.name, JSON.stringify(row.rules), row.keep, row.createdBy, row.createdAt],
    );
    return affectedRows === 1;
  }

  async change(environment: Environment, { name, rules, keep }: Pick<ChannelRow, 'name' | 'rules' | 'keep'>): Promise<void> {
    await this.database.change(`UPDATE \`${environment.database}\`._channels SET rules = ?, keep = ? WHERE name = ?`, [
      JSON.stringify(rules),
      keep,
      name,
    ]);
  }

  remove(environment: Environment, name: string): Promise<boolean> {
    return this.database.transaction(async (on) => {
      await on.change(`DELETE FROM \`${environment.database}\`._channelMessages WHERE channel = ?`, [name]);
      return (await on.change(`DELETE FROM \`${environment.database}\`._channels WHERE name = ?`, [name])).affectedRows > 0;
    });
  }

  /** Channels with how much is on them; all, or the one of a name. */
  async list(environment: Environment, now: Date, name?: string): Promise<Channel[]> {
    const { database } = environment;
    const rows = await this.database.rows<ChannelRow & { messages: number; listening: number }>(
      `SELECT c.*, (SELECT COUNT(*) FROM \`${database}\`._channelMessages m WHERE m.channel = c.name) AS messages,
         (SELECT COUNT(*) FROM \`${database}\`._presence p WHERE p.channel = c.name AND p.until > ?) AS listening FROM \`${database}\`._channels c ${name === undefined ? '' : 'WHERE c.name = ?'} ORDER BY c.name LIMIT 1000`,
      name === undefined ? [now] : [now, name],
    );
    return rows.map((row) => ({
      ...row,
      rules: storedJson(row.rules),
      messages: Number(row.messages),
      listening: Number(row.listening),
      createdAt: row.createdAt.toISOString(),
    }));
  }

  /**
   * Adds a message. The channel's row is held meanwhile, so that numbers come in the order in which messages can be
   * read, and a reader that resumes after one has missed none.
   */
  add(environment: Environment, channel: ChannelRow, data: JsonObject, sender: string, now: Date): Promise<ChannelMessage> {
    const { database } = environment;
    return this.database.transaction(async (on) => {
      await on.rows(`SELECT name FROM \`${database}\`._channels WHERE name = ? FOR UPDATE`, [channel.name]);
      const { insertId } = await on.change(`INSERT INTO \`${database}\`._channelMessages (channel, data, sender, at) VALUES (?, ?, ?, ?)`, [
        channel.name,
        JSON.stringify(data),
        sender,
        now,
      ]);
      const [oldest] = await on.rows<{ number: number }>(
        `SELECT number FROM \`${database}\`._channelMessages WHERE channel = ? ORDER BY number DESC LIMIT 1 OFFSET ${channel.keep}`,
        [channel.name],
      );
      if (oldest)
        await on.change(`DELETE FROM \`${database}\`._channelMessages WHERE channel = ? AND number <= ? AND at < ? LIMIT 100`, [
          channel.name,
          oldest.number,
          new Date(now.getTime() - READ_WITHIN_MS),
        ]);
      return { number: insertId, data, sender, at: now.toISOString() };
    });
  }

  /** The latest messages, oldest first. */
  async latest(environment: Environment, channel: string, most: number): Promise<ChannelMessage[]> {
    const rows = await this.database.rows<MessageRow>(
      `SELECT number, data, sender, at FROM \`${environment.database}\`._channelMessages WHERE channel = ? ORDER BY number DESC LIMIT ${most}`,
      [channel],
    );
    return rows.reverse().map(presentMessage);
  }

  async after(environment: Environment, channel: string, number: number, most: number): Promise<ChannelMessage[]> {
    const rows = await this.database.rows<MessageRow>(
      `SELECT number, data, sender, at FROM \`${environment.database}\`._channelMessages WHERE channel = ? AND number > ? ORDER BY number LIMIT ${most}`,
      [channel, number],
    );
    return rows.map(presentMessage);
  }

  async enter(
    environment: Environment,
    at: { channel: string; stream: string; userId: string | null; deviceId: string | null },
    now: number,
  ): Promise<void> {
    await this.database.change(
      `INSERT INTO \`${environment.database}\`._presence (channel, stream, userId, deviceId, since, until) VALUES (?, ?, ?, ?, ?, ?)`,
      [at.channel, at.stream, at.userId, at.deviceId, new Date(now), new Date(now + PRESENT_MS)],
    );
  }

  async stay(environment: Environment, streams: readonly string[], now: number): Promise<void> {
    if (streams.length > 0)
      await this.database.run(`UPDATE \`${environment.database}\`._presence SET until = ? WHERE stream IN (?)`, [
        new Date(now + PRESENT_MS),
        streams,
      ]);
  }

  /** Forgets a stream that was closed, and those of instances that ended without a word. */
  async leave(environment: Environment, channel: string, stream: string, now: number): Promise<void> {
    await this.database.change(`DELETE FROM \`${environment.database}\`._presence WHERE (channel = ? AND stream = ?) OR until < ?`, [
      channel,
      stream,
      new Date(now - PRESENT_MS),
    ]);
  }

  async presence(environment: Environment, channel: string, now: number): Promise<Presence> {
    const rows = await this.database.rows<{ userId: string | null; since: Date }>(
      `SELECT userId, MIN(since) AS since FROM \`${environment.database}\`._presence WHERE channel = ? AND until > ? GROUP BY COALESCE(userId, stream), userId ORDER BY since LIMIT 1000`,
      [channel, new Date(now)],
    );
    return {
      listening: rows.length,
      users: rows.flatMap(({ userId, since }) => (userId ? [{ userId, since: since.toISOString() }] : [])),
    };
  }
}
