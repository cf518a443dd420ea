/** One call from the service to an outside system as a row of `_requests`. */
import { randomBytes } from 'node:crypto';
import type { Recording } from '@orchard/contract';
import { uuidv7 } from '@orchard/core';
import type { Exchange } from '../../platform/ports.js';
import type { RequestValues } from './recordStore.js';

const PATH = 500;
const REASON = 2_000;

/** In the order of REQUEST_COLUMNS. What it carried comes masked. */
export function exchangeRow(exchange: Exchange, endedAt: number, keptOf: number, settings: Recording): RequestValues {
  const { gateway, durationUs, status, problem, reason, trace, deviceId } = exchange;
  const { method, address, headers, bodies } = exchange.details();
  const at = endedAt - Math.round(durationUs / 1000);
  const random = randomBytes(34);
  return [
    uuidv7(at, random.subarray(24)),
    new Date(at),
    method,
    gateway,
    address.slice(0, PATH),
    status,
    Math.round(durationUs),
    0,
    0,
    null,
    null,
    null,
    deviceId,
    trace ?? random.toString('hex', 0, 16),
    random.toString('hex', 16, 24),
    null,
    problem,
    reason?.slice(0, REASON) ?? null,
    null,
    null,
    Buffer.byteLength(bodies.request ?? ''),
    Buffer.byteLength(bodies.response ?? ''),
    null,
    null,
    keptOf,
    'out',
    null,
    settings.headers && headers ? JSON.stringify(headers) : null,
    settings.bodies && problem ? JSON.stringify(bodies) : null,
  ];
}
