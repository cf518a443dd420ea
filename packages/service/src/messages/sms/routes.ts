import { operations } from '@orchard/contract';
import { type Columns, type ListGround, type ListRequest, listRows, plainColumns } from '../../platform/database/listing.js';
import { bind, type Environment, environmentOf, type Route } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { presentUser, UserStore } from '../../people/users/store.js';
import { OneTimeCodes } from './codes.js';
import { demandPhone } from '../gateways/numbers.js';
import { smsInboxTable } from './tables.js';

const INBOX: Columns = new Map(plainColumns({ text: ['id', 'gateway', 'sender', 'recipient', 'text', 'asked', 'userId'], time: ['at'] }));
type Row = typeof smsInboxTable.$inferSelect;

export function smsRoutes(parts: Parts): Route[] {
  return [
    bind(operations.sms.inbox, async (call) => ({ body: (await listInbox(environmentOf(call), call.query, parts)) as never })),
    ...phoneRoutes(parts),
  ];
}

function listInbox({ db }: Environment, request: ListRequest, ground: ListGround) {
  const listed = { select: `SELECT * FROM ${db.of(smsInboxTable)}`, columns: INBOX, sort: '-at', tie: { field: 'id', descending: true } };
  return listRows(db, listed, request, ground, (row: Row) => ({ ...row, at: row.at.toISOString() }));
}

/** How users verify their phone numbers. */
function phoneRoutes(parts: Parts): Route[] {
  const own = operations.users;
  const codes = new OneTimeCodes(parts);
  const users = new UserStore();
  return [
    bind(own.askCode, async (call) => {
      const { number } = demandPhone(call.body.number, 'body.number');
      return { body: await codes.send(environmentOf(call), number) };
    }),
    bind(own.answerCode, async (call) => {
      const { number } = demandPhone(call.body.number, 'body.number');
      const environment = environmentOf(call);
      await codes.answer(environment, number, call.body.code);
      const now = new Date(parts.now());
      await users.update(environment, call.user?.id ?? '', { phone: number, phoneVerifiedAt: now, updatedAt: now });
      return { body: presentUser(await users.named(environment, call.user?.id ?? '')) };
    }),
  ];
}
