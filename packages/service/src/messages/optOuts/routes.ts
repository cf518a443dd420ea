import { operations, Problem } from '@orchard/contract';
import { bind, environmentOf, type Naming, type Route } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';
import { demandPhone } from '../gateways/numbers.js';
import { OptOutStore } from './store.js';

const addressOf = (way: string, address: string) => (way === 'sms' ? demandPhone(address, 'params.address').number : address.toLowerCase());

export function optOutRoutes(platform: Platform): Route[] {
  const own = operations.sms;
  const store = new OptOutStore();
  const subject = ({ params: { way, address } }: Naming<{ way: string; address: string }>) =>
    `${way}/${platform.audit.fingerprint(addressOf(way, address))}`;
  return [
    bind(own.optOuts, async (call) => ({ body: (await store.list(environmentOf(call), call.query, platform)) as never })),
    bind(
      own.putOptOut,
      async (call) => {
        const { way, address } = call.params;
        const { state, because } = call.body;
        const row = {
          way,
          address: addressOf(way, address),
          state,
          because: `${because} (${call.member?.name})`,
          at: new Date(platform.now()),
        };
        await store.write(environmentOf(call), row);
        return { body: { ...row, at: row.at.toISOString() } };
      },
      { subject, after: ({ state, because }) => ({ state, because }) },
    ),
    bind(
      own.removeOptOut,
      async (call) => {
        const { way, address } = call.params;
        if (!(await store.remove(environmentOf(call), way, addressOf(way, address))))
          throw new Problem('not-found', `No opt-out is recorded for ${address}.`);
        return { body: undefined };
      },
      { subject },
    ),
  ];
}
