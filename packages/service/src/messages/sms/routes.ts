import { operations } from '@orchard/contract';
import { type Columns, cutPage, type ListGround, type ListRequest, plainColumns, planList } from '../../platform/database/listing.js';
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

async function listInbox({ db }: Environment, request: ListRequest, ground: ListGround) {
  const plan = planList(INBOX, { ...request, sort: request.sort || '-at' }, { field: 'id', descending: true }, ground);
  const rows = await db.rows<Row>(
    `SELECT * FROM ${db.of(smsInboxTable)} WHERE ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
    plan.values,
  );
  return cutPage(
    rows,
    plan,
    ground,
    (row, field) => row[field as keyof Row],
    (row) => ({ ...row, at: row.at.toISOString() }),
  );
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
