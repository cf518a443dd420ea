/** Recipients of short messages and mails: users by number or address, or numbers and addresses named one by one. */
import { setImmediate as turn } from 'node:timers/promises';
import type { Environment } from '../../platform/call.js';
import { demandPhone } from '../gateways/numbers.js';
import { hasOptedOutSql } from '../optOuts/store.js';

export type MessageWay = 'sms' | 'mail';
const READ_AT_ONCE = 500;
const WORDS = {
  sms: {
    address: 'u.phone',
    none: 'The user has no phone number.',
    optedOut: 'The number has opted out.',
    noGateway: 'There is no gateway for SMS.',
  },
  mail: {
    address: 'u.email',
    none: 'The user has no mail address.',
    optedOut: 'The address has opted out.',
    noGateway: 'There is no gateway for mail.',
  },
} as const;

export const optedOutWords = (way: MessageWay): string => WORDS[way].optedOut;
export const noGatewayWords = (way: MessageWay): string => WORDS[way].noGateway;

/** As SQL over users `u`: the address, and why it is unreachable (NULL when it is reachable). */
export function recipientSql(environment: Environment, way: MessageWay, gateway: string | null): { address: string; why: string } {
  const { address, none, optedOut, noGateway } = WORDS[way];
  return {
    address,
    why: `CASE WHEN ${address} IS NULL THEN '${none}'
      WHEN ${hasOptedOutSql(environment, way, address)} THEN '${optedOut}'
      ${gateway ? '' : `WHEN TRUE THEN '${noGateway}'`} END`,
  };
}

/**
 * Numbers or addresses in normal form, without duplicates.
 * @throws {Problem} invalid-input for an invalid number
 */
export async function listedTargets(way: MessageWay, listed: readonly string[]): Promise<string[]> {
  if (way === 'mail') return [...new Set(listed.map((address) => address.toLowerCase()))];
  const targets = new Set<string>();
  for (const [i, text] of listed.entries()) {
    // Parsing ten thousand numbers takes a fifth of a second; other calls get their turns meanwhile.
    if (i % READ_AT_ONCE === READ_AT_ONCE - 1) await turn();
    targets.add(demandPhone(text, `body.audience.phones.${i}`).number);
  }
  return [...targets];
}
