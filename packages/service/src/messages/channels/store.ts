/** Channels, their messages and who listens, as rows. */
import type { Channel, ChannelMessage } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { storedJson } from '../../platform/database/storedJson.js';
import type { Environment } from '../../platform/call.js';
import { channelMessageTable, channelTable } from './tables.js';
import { listenersSql } from '../presence/store.js';

export type ChannelRules = { listen: string; publish: string };
export type ChannelRow = { name: string; rules: ChannelRules; keep: number; createdBy: string; createdAt: Date };
type MessageRow = { number: number; data: JsonObject | string; sender: string; at: Date };

export const SIGNED_IN = "me('id') IS NOT NULL";
/** Listeners must have had time to read a message before it is deleted. */
const READ_WITHIN_MS = 60_000;

const presentMessage = ({ actors }: Environment, row: MessageRow): ChannelMessage => ({
  number: Number(row.number),
  data: storedJson(row.data),
  sender: actors.show(row.sender),
  at: row.at.toISOString(),
});

export class ChannelStore {
  async find(environment: Environment, name: string): Promise<ChannelRow | null> {
    const [row] = await environment.db.rows<ChannelRow>(`SELECT * FROM ${environment.db.of(channelTable)} WHERE name = ?`, [name]);
    return row ? { ...row, rules: storedJson(row.rules) } : null;
  }

  /** Creates the channel if there is none; true when it was created. */
  async ensure(environment: Environment, row: ChannelRow): Promise<boolean> {
    const { affectedRows } = await environment.db.change(
      `INSERT IGNORE INTO ${environment.db.of(channelTable)} (name, rules, keep, createdBy, createdAt) VALUES (?, ?, ?, ?, ?)`,
      [row.name, JSON.stringify(row.rules), row.keep, row.createdBy, row.createdAt],
    );
    return affectedRows === 1;
  }

  async change(environment: Environment, { name, rules, keep }: Pick<ChannelRow, 'name' | 'rules' | 'keep'>): Promise<void> {
    await environment.db.change(`UPDATE ${environment.db.of(channelTable)} SET rules = ?, keep = ? WHERE name = ?`, [
      JSON.stringify(rules),
      keep,
      name,
    ]);
  }

  remove(environment: Environment, name: string): Promise<boolean> {
    return environment.db.transaction(async (on) => {
      await on.change(`DELETE FROM ${environment.db.of(channelMessageTable)} WHERE channel = ?`, [name]);
      return (await on.change(`DELETE FROM ${environment.db.of(channelTable)} WHERE name = ?`, [name])).affectedRows > 0;
    });
  }

  /** Channels with their numbers of messages and listeners; all, or the one with a name. */
  async list(environment: Environment, now: Date, name?: string): Promise<Channel[]> {
    const { db } = environment;
    const rows = await environment.db.rows<ChannelRow & { messages: number; listening: number }>(
      `SELECT c.*, (SELECT COUNT(*) FROM ${db.of(channelMessageTable)} m WHERE m.channel = c.name) AS messages,
         ${listenersSql(environment)} AS listening FROM ${db.of(channelTable)} c ${name === undefined ? '' : 'WHERE c.name = ?'} ORDER BY c.name LIMIT 1000`,
      name === undefined ? [now] : [now, name],
    );
    return rows.map((row) => ({
      ...row,
      rules: storedJson(row.rules),
      createdBy: environment.actors.show(row.createdBy),
      messages: Number(row.messages),
      listening: Number(row.listening),
      createdAt: row.createdAt.toISOString(),
    }));
  }

  /**
   * Adds a message. The channel's row is locked meanwhile, so that numbers follow the order in which messages become
   * visible, and a reader that resumes after one misses none.
   */
  add(environment: Environment, channel: ChannelRow, data: JsonObject, sender: string, now: Date): Promise<ChannelMessage> {
    const { db } = environment;
    return environment.db.transaction(async (on) => {
      await on.rows(`SELECT name FROM ${db.of(channelTable)} WHERE name = ? FOR UPDATE`, [channel.name]);
      const { insertId } = await on.change(`INSERT INTO ${db.of(channelMessageTable)} (channel, data, sender, at) VALUES (?, ?, ?, ?)`, [
        channel.name,
        JSON.stringify(data),
        sender,
        now,
      ]);
      const [oldest] = await on.rows<{ number: number }>(
        `SELECT number FROM ${db.of(channelMessageTable)} WHERE channel = ? ORDER BY number DESC LIMIT 1 OFFSET ${channel.keep}`,
        [channel.name],
      );
      if (oldest)
        await on.change(`DELETE FROM ${db.of(channelMessageTable)} WHERE channel = ? AND number <= ? AND at < ? LIMIT 100`, [
          channel.name,
          oldest.number,
          new Date(now.getTime() - READ_WITHIN_MS),
        ]);
      return { number: insertId, data, sender: environment.actors.show(sender), at: now.toISOString() };
    });
  }

  /** The latest messages, oldest first. */
  async latest(environment: Environment, channel: string, most: number): Promise<ChannelMessage[]> {
    const rows = await environment.db.rows<MessageRow>(
      `SELECT number, data, sender, at FROM ${environment.db.of(channelMessageTable)} WHERE channel = ? ORDER BY number DESC LIMIT ${most}`,
      [channel],
    );
    return rows.reverse().map((row) => presentMessage(environment, row));
  }

  async after(environment: Environment, channel: string, number: number, most: number): Promise<ChannelMessage[]> {
    const rows = await environment.db.rows<MessageRow>(
      `SELECT number, data, sender, at FROM ${environment.db.of(channelMessageTable)} WHERE channel = ? AND number > ? ORDER BY number LIMIT ${most}`,
      [channel, number],
    );
    return rows.map((row) => presentMessage(environment, row));
  }
}
