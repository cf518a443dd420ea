import { operations } from '@orchard/contract';
import { bind, environmentOf, type Route } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { presentUser, UserStore } from '../../people/users/store.js';
import { OneTimeCodes } from './codeStore.js';
import { demandPhone } from '../gateways/numbers.js';
import { listInbox } from './inboxStore.js';

export function smsRoutes(parts: Parts): Route[] {
  return [
    bind(operations.sms.inbox, async (call) => ({ body: await listInbox(environmentOf(call), call.query, parts) })),
    ...phoneRoutes(parts),
  ];
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
