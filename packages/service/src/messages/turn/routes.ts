import { operations } from '@orchard/contract';
import { bind, type Call, environmentOf, refusedBy, refusedOf, type Route } from '../../platform/call.js';
import { RulesAtHand } from '../../platform/access/rulesAtHand.js';
import { iceServersOf } from './credentials.js';
import type { Parts } from './parts.js';
import { changeTurn, readTurn, secretOf } from './settings.js';
import { tryAddress } from './trial.js';

const RULES = new RulesAtHand([]);
/** What a trial names itself; it has no user. */
const TRIAL = 'trial';

export function turnRoutes({ now }: Parts): Route[] {
  const own = operations.turn;
  return [
    bind(own.credentials, async (call) => {
      const environment = environmentOf(call);
      const settings = await readTurn(environment);
      demandWho(call, settings.who, now());
      return { body: iceServersOf(settings, await secretOf(environment), call.user?.id as string, now()) };
    }),
    bind(own.settings, async (call) => ({ body: await readTurn(environmentOf(call)) })),
    bind(
      own.change,
      async (call) => {
        RULES.demandReadable(call.body.who);
        return { body: await changeTurn(environmentOf(call), call.body, new Date(now())) };
      },
      { read: (call) => readTurn(environmentOf(call)) },
    ),
    bind(own.trial, async (call) => {
      const environment = environmentOf(call);
      const settings = await readTurn(environment);
      const { iceServers } = iceServersOf(settings, await secretOf(environment), TRIAL, now());
      const credentials = iceServers.find((one) => one.username !== undefined) as { username: string; credential: string } | undefined;
      return { body: { items: await Promise.all(settings.addresses.map((address) => tryAddress(address, credentials))) } };
    }),
  ];
}

/** @throws {Problem} access-refused */
function demandWho(call: Pick<Call, 'user' | 'environment'>, who: string, now: number): void {
  const me = { id: call.user?.id ?? null, roles: [...(call.user?.roles ?? [])] };
  if (RULES.holds(who, {}, { me, now })) return;
  throw refusedBy(refusedOf(call), 'The rule for calls between people', `The rule for calls between people, ${who}, refuses this user.`);
}
