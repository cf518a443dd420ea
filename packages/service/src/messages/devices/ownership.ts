/** Ownership of a device: its caller sends the secret that registration returned. */
import { timingSafeEqual } from 'node:crypto';
import { DEVICE_SECRET, Problem } from '@orchard/contract';
import { formatKey } from '@orchard/core';
import { hashKey } from '../../platform/access/secrets.js';
import { type Call, type Environment, environmentOf } from '../../platform/call.js';
import type { Parts } from './parts.js';
import type { DeviceRow, DeviceStore } from './store.js';

export type DeviceCall = Pick<Call, 'environment' | 'holder' | 'user' | 'headers'>;

/** @throws {Problem} not-found */
export async function deviceNamed(store: DeviceStore, environment: Environment, id: string): Promise<DeviceRow> {
  const row = await store.find(environment, id);
  if (!row) throw new Problem('not-found', `There is no device ${id} in ${environment.app}/${environment.name}.`);
  return row;
}

/**
 * The device of a call by an app, if the caller may use it.
 * @throws {Problem} not-found, access-refused
 */
export async function findOwnDevice(store: DeviceStore, call: DeviceCall & { params: { id: string } }): Promise<DeviceRow> {
  const row = await deviceNamed(store, environmentOf(call), call.params.id);
  demandOwn(call, row);
  return row;
}

/**
 * Refuses a call for a device without its secret. A device registered before there were secrets belongs to its user alone;
 * without a user, to no one. Server keys need no secret.
 * @throws {Problem} access-refused
 */
export function demandOwn(call: DeviceCall, row: DeviceRow): void {
  if (call.holder?.key.kind === 'server') return;
  const refuse = (problem: string) => {
    throw new Problem('access-refused', `${problem} An app that has lost the secret registers as a new device.`);
  };
  const secret = call.headers[DEVICE_SECRET.toLowerCase()];
  if (row.secretHash === null) {
    if (row.userId && row.userId !== call.user?.id) refuse(`The device ${row.id} belongs to a user who is not signed in here.`);
  } else if (typeof secret !== 'string') refuse(`Calls for the device ${row.id} must send its secret, as \`${DEVICE_SECRET}\`.`);
  else if (!isSame(hashKey(secret), row.secretHash)) refuse(`The secret is not that of the device ${row.id}.`);
}

/** A secret for a device that has none, returned once. */
export async function givenSecret(parts: Parts, store: DeviceStore, call: DeviceCall, row: DeviceRow): Promise<{ secret?: string }> {
  if (row.secretHash !== null) return {};
  const secret = formatKey('device', parts.random(16));
  // Only one of two concurrent calls sets it.
  return (await store.giveSecret(environmentOf(call), row.id, hashKey(secret))) ? { secret } : {};
}

const isSame = (a: string, b: string) => timingSafeEqual(Buffer.from(a), Buffer.from(b));
