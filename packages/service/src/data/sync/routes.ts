import { DEVICE_SECRET, operations, Problem } from '@orchard/contract';
import { bind, type Call, environmentOf, type Route } from '../../platform/call.js';
import { demandOwn } from '../../messages/devices/ownership.js';
import { findSync, listSyncs, type Noted, noteSync } from './deviceSyncStore.js';
import { typesOf } from './appTypes.js';
import type { Parts } from './parts.js';
import { Pulling } from './pulling.js';
import { Pushing } from './pushing.js';
import { sendStarter } from './starting.js';

export function syncRoutes(parts: Parts): Route[] {
  const own = operations.sync;
  const [pulling, pushing] = [new Pulling(parts), new Pushing(parts)];
  return [
    bind(own.pull, async (call) => {
      const device = await deviceOf(parts, call);
      const body = await pulling.pull(call);
      const { pending, conflicts, scopes } = call.body;
      if (device)
        await note(parts, call, { device, number: body.at, pending, conflicts, scopes: scopes.length, problem: problemIn(body.scopes) });
      return { body };
    }),
    bind(own.push, async (call) => {
      const device = await deviceOf(parts, call);
      const body = await pushing.push(call);
      const taken = body.results.filter(({ status }) => status === 'taken').length;
      if (device) await note(parts, call, { device, taken, refused: body.results.length - taken, problem: problemIn(body.results) });
      return { body };
    }),
    bind(own.types, async (call) => ({ body: await typesOf(parts, environmentOf(call)) })),
    bind(own.starter, (call) => sendStarter(parts, call)),
    bind(own.devices, async (call) => {
      const environment = environmentOf(call);
      return { body: await listSyncs(environment, call.query, parts, await parts.feed.settle(environment)) };
    }),
    bind(own.device, async (call) => {
      const environment = environmentOf(call);
      const found = await findSync(environment, call.params.device, await parts.feed.settle(environment));
      if (!found) throw new Problem('not-found', `The device ${call.params.device} has not synced.`);
      return { body: found };
    }),
  ];
}

/** The device that a call names; null where it names none. @throws {Problem} not-found, access-refused */
async function deviceOf(parts: Parts, call: Pick<Call, 'environment' | 'holder' | 'user' | 'headers'>): Promise<string | null> {
  const id = call.headers['orchard-device'];
  if (typeof id !== 'string') return null;
  const row = await parts.devices.find(environmentOf(call), id.slice(0, 64));
  if (!row)
    throw new Problem(
      'not-found',
      `There is no device ${id.slice(0, 64)} here. Register it first, or leave out \`Orchard-Device\` and \`${DEVICE_SECRET}\`.`,
    );
  demandOwn(call, row);
  return row.id;
}

const problemIn = (results: readonly { problem?: { detail: string } | undefined }[]): string | null =>
  results.find(({ problem }) => problem)?.problem?.detail ?? null;

const note = (parts: Parts, call: Pick<Call, 'environment'>, noted: Noted) => noteSync(environmentOf(call), noted, new Date(parts.now()));
