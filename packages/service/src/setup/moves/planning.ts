/** What a move would do: told before anything is done. */
import { type MovePlanDocument, Problem } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { sizeOf } from './sizeStore.js';

/** What a machine with two cores was seen to copy a second. */
const BYTES_A_SECOND = 20_000_000;
/** Packed, sent, stored there and loaded from there. */
const BYTES_A_SECOND_AWAY = 10_000_000;
const AT_LEAST_MS = 10_000;

/** @throws {Problem} invalid-input for a server that the settings do not name, or the one that it is on */
export async function planOf(
  parts: Parts,
  environment: Environment,
  { server, installation }: { server?: string | undefined; installation?: string | undefined },
): Promise<MovePlanDocument> {
  return installation === undefined ? planWithin(parts, environment, server ?? null) : planAway(parts, environment, installation);
}

async function planWithin({ servers }: Parts, environment: Environment, to: string | null): Promise<MovePlanDocument> {
  const words = (server: string | null) => (server === null ? 'the main server' : `the server ${server}`);
  const refuse = (problem: string) => {
    const expected = [
      ...(environment.server === null ? [] : ['nothing for the main one']),
      ...servers.names.filter((name) => name !== environment.server),
    ];
    return new Problem('invalid-input', problem, {
      fields: [{ path: 'body.server', problem, expected: expected.join(', ') || 'further servers in ORCHARD_DATABASE_SERVERS' }],
    });
  };
  if (to !== null && !servers.names.includes(to)) throw refuse(`There is no database server \`${to}\`.`);
  if (to === environment.server) throw refuse(`${environment.app}/${environment.name} is on ${words(to)} already.`);
  const { bytes, tables } = await sizeOf(environment.db);
  return {
    from: environment.server,
    to,
    installation: null,
    bytes,
    steps: [
      `The ${tables} tables are copied to ${words(to)} as they are at one moment; everything goes on meanwhile.`,
      'What changes meanwhile is noted, and brought over until little is left.',
      'Writes are held for less than two seconds: the rest is brought over, the counts are compared, and every instance goes on there. Held writes are stored there; no call fails for it.',
      `What is left on ${words(environment.server)} is deleted.`,
    ],
    stays: [
      'Its address, keys, clients, sessions, devices and hosts: apps notice nothing.',
      'Its files: they are in the files directory, on no database server.',
      'Its backups.',
      'If something goes wrong before the switch, or you undo the move, everything is as it was.',
    ],
    durationMs: AT_LEAST_MS + Math.round((bytes / BYTES_A_SECOND) * 1000),
  };
}

async function planAway({ contents, address }: Parts, environment: Environment, installation: string): Promise<MovePlanDocument> {
  const { bytes, tables } = await sizeOf(environment.db);
  const files = await contents.all(environment);
  const fileBytes = files.reduce((sum, { size }) => sum + size, 0);
  return {
    from: environment.server,
    to: null,
    installation,
    bytes: bytes + fileBytes,
    steps: [
      `The ${tables} tables and ${files.length} files are sent to ${installation}; everything goes on meanwhile.`,
      'What changes meanwhile is noted, and brought over until little is left.',
      'Writes are held for less than two seconds: the rest is brought over, the counts are compared, and both installations agree that the environment lives there. Held writes are stored there.',
      `From then on ${address()} passes all calls of its apps on to ${installation}. Lead the name that apps use to ${installation} when it suits you, then delete the environment here: that ends the passing on, and removes what was left.`,
    ],
    stays: [
      'Its address, as long as the name that apps use leads here or there; its keys, clients, sessions, devices, hosts and files.',
      'Roles of members who are members there too, by their mail addresses.',
      'Schedules, jobs, standing notifications and messages that are waiting go on there.',
      'Streams end once and are opened again by the apps.',
      'What is left here, until you delete the environment here; its former backups.',
      'If something goes wrong before both agree, or you undo the move, everything is as it was.',
    ],
    durationMs: AT_LEAST_MS + Math.round(((bytes + fileBytes) / BYTES_A_SECOND_AWAY) * 1000),
  };
}
