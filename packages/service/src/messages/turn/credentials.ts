/** Credentials for TURN servers that share a secret with the service. */
import { createHmac } from 'node:crypto';
import type { IceServers, TurnSettings } from '@orchard/contract';

const MINUTE_MS = 60_000;
export type Credentials = { username: string; credential: string };

/**
 * The shared-secret scheme that TURN servers know (draft-uberti-behave-turn-rest-00, section 2.2): the name says until when,
 * and the password proves that the service said so. The server needs no list of users.
 */
export function credentialsOf(secret: string, userId: string, expiresAt: Date): Credentials {
  const username = `${Math.floor(expiresAt.getTime() / 1000)}:${userId}`;
  return { username, credential: createHmac('sha1', secret).update(username).digest('base64') };
}

const isRelay = (address: string): boolean => /^turns?:/i.test(address);

/** The servers of an RTCConfiguration: those for STUN are for anyone, and those for TURN need credentials. */
export function iceServersOf({ addresses, minutes }: TurnSettings, secret: string | null, userId: string, now: number): IceServers {
  const [relays, others] = [addresses.filter(isRelay), addresses.filter((address) => !isRelay(address))];
  const plain = others.length > 0 ? [{ urls: others }] : [];
  if (relays.length === 0 || secret === null) return { iceServers: plain, expiresAt: null };
  const expiresAt = new Date(now + minutes * MINUTE_MS);
  const relayed = { urls: relays, ...credentialsOf(secret, userId, expiresAt) };
  return { iceServers: [...plain, relayed], expiresAt: expiresAt.toISOString() };
}
