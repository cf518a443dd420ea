/** Messages from phones, as rows. */
import type { IncomingSms } from '@orchard/contract';
import { ownerOfPhoneSql } from '../../people/users/usersSql.js';
import type { Environment } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import { type Columns, type ListGround, type ListRequest, listRows, plainColumns } from '../../platform/database/listing.js';
import { smsInboxTable } from './tables.js';

type Row = typeof smsInboxTable.$inferSelect;
const COLUMNS: Columns = new Map(plainColumns({ text: ['id', 'gateway', 'sender', 'recipient', 'text', 'asked', 'userId'], time: ['at'] }));

export function listInbox({ db }: Environment, request: ListRequest, ground: ListGround) {
  const listed = { select: `SELECT * FROM ${db.of(smsInboxTable)}`, columns: COLUMNS, sort: '-at', tie: { field: 'id', descending: true } };
  return listRows(db, listed, request, ground, (row: Row) => ({ ...row, at: row.at.toISOString() }) as IncomingSms);
}

/** Stores a message, with the user of its number. Raw SQL: the user is looked up in the same statement. */
export async function keepMessage({ db }: Environment, message: Omit<Row, 'userId'>, on: Statements): Promise<void> {
  const { id, gateway, sender, recipient, text, asked, at } = message;
  await on.change(
    `INSERT INTO ${db.of(smsInboxTable)} (id, gateway, sender, recipient, text, asked, userId, at) VALUES (?, ?, ?, ?, ?, ?, ${ownerOfPhoneSql(db)}, ?)`,
    [id, gateway, sender, recipient, text, asked, sender, at],
  );
}
