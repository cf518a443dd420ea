import { operations, Problem } from '@orchard/contract';
import { type Columns, cutPage, type ListRequest, plainColumns, planList } from '../../platform/database/listing.js';
import { bind, type Environment, environmentOf, type Route } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { presentUser, UserStore } from '../../people/users/store.js';
import { OneTimeCodes } from './codes.js';
import { writeOptOut } from './inbox.js';
import { demandPhone } from '../gateways/numbers.js';

const INBOX: Columns = new Map(plainColumns({ text: ['id', 'gateway', 'sender', 'recipient', 'text', 'asked', 'userId'], time: ['at'] }));
const OPT_OUTS: Columns = new Map(plainColumns({ text: ['way', 'address', 'state', 'because'], time: ['at'] }));
type Timed = { at: Date } & Record<string, unknown>;

export function smsRoutes(parts: Parts): Route[] {
  const own = operations.sms;

  async function list(environment: Environment, table: string, columns: Columns, tie: string, request: ListRequest) {
    const plan = planList(columns, { ...request, sort: request.sort || '-at' }, { field: tie, descending: true }, parts);
    const rows = await parts.database.rows<Timed>(
      `SELECT * FROM \`${environment.database}\`.${table} WHERE ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      plan.values,
    );
    return cutPage(
      rows,
      plan,
      parts,
      (row, field) => row[field],
      (row) => ({ ...row, at: row.at.toISOString() }) as never,
    );
  }
  const addressOf = (way: string, address: string) =>
    way === 'sms' ? demandPhone(address, 'params.address').number : address.toLowerCase();

  return [
    bind(own.inbox, async (call) => ({ body: await list(environmentOf(call), '_smsInbox', INBOX, 'id', call.query) })),
    bind(own.optOuts, async (call) => ({ body: await list(environmentOf(call), '_optOuts', OPT_OUTS, 'address', call.query) })),
    bind(own.putOptOut, async (call) => {
      const { way, address } = call.params;
      const { state, because } = call.body;
      const row = {
        way,
        address: addressOf(way, address),
        state,
        because: `${because} (${call.member?.email})`,
        at: new Date(parts.now()),
      };
      await writeOptOut(parts.database, environmentOf(call), row);
      return { body: { ...row, at: row.at.toISOString() } };
    }),
    bind(own.removeOptOut, async (call) => {
      const { way, address } = call.params;
      const { affectedRows } = await parts.database.change(
        `DELETE FROM \`${environmentOf(call).database}\`._optOuts WHERE way = ? AND address = ?`,
        [way, addressOf(way, address)],
      );
      if (affectedRows === 0) throw new Problem('not-found', `${address} has asked for nothing.`);
      return { body: undefined };
    }),
    ...phoneRoutes(parts),
  ];
}

/** How users verify their phone numbers. */
function phoneRoutes(parts: Parts): Route[] {
  const own = operations.users;
  const codes = new OneTimeCodes(parts);
  const users = new UserStore(parts.database);
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
