import { RECORDINGS } from './recording.js';
import type { Capability } from '../../platform/capability.js';
import type { Environment } from '../../platform/call.js';
import { authorKept } from '../files/addressing.js';
import type { Parts } from './parts.js';
import { broadcastRoutes, managedBroadcastRoutes } from './routes.js';
import { Sending } from './sending.js';
import { broadcastSettings } from './settings.js';
import { endedBefore, removeBroadcasts, silentSince } from './store.js';
import { Watching } from './watching.js';

/** Longer than whoever awaits it takes to end it. */
const LOST_S = 15;
const [SECOND_MS, HOUR_MS, DAY_MS] = [1_000, 3_600_000, 86_400_000];
/** How long a broadcast that has ended can still be watched at its address, and how long it is listed. */
const [SHOWN_MS, LISTED_MS] = [HOUR_MS, 30 * DAY_MS];

export function broadcasts(parts: Parts): Capability {
  const sending = new Sending(parts);
  const watching = new Watching(parts, sending);
  const room = { parts, sending, watching };
  return {
    name: 'broadcasts',
    routes: [...broadcastRoutes(room), ...managedBroadcastRoutes(room)],
    recurring: [
      {
        work: 'end broadcasts of lost instances',
        everyMs: 60 * SECOND_MS,
        eachEnvironment: (environment) => endLost(parts, sending, environment),
      },
      { work: 'forget old broadcasts', everyMs: HOUR_MS, eachEnvironment: (environment) => forgetOld(parts, sending, environment) },
    ],
    onEveryInstance: [{ work: 'end silent broadcasts', everyMs: 2 * SECOND_MS, run: () => sending.endSilent() }],
    stop: () => sending.stop(),
  };
}

/** Those whose instance was killed: no other one awaits what they send. */
async function endLost(parts: Parts, sending: Sending, environment: Environment): Promise<void> {
  const { silentSeconds } = await broadcastSettings.read(environment);
  for (const row of await silentSince(environment, new Date(parts.now() - (silentSeconds + LOST_S) * SECOND_MS)))
    await sending.endAsSilent(environment, row);
}

async function forgetOld(parts: Parts, sending: Sending, environment: Environment): Promise<void> {
  const now = parts.now();
  for (const { id } of await endedBefore(environment, new Date(now - SHOWN_MS))) await sending.forget(environment, id);
  const old = await endedBefore(environment, new Date(now - LISTED_MS));
  await removeBroadcasts(
    environment,
    old.map(({ id }) => id),
  );
  const { keepRecordingsDays } = await broadcastSettings.read(environment);
  if (keepRecordingsDays === null) return;
  const author = authorKept({ userId: null, by: 'service' });
  const filter = `createdAt < TIMESTAMP('${new Date(now - keepRecordingsDays * DAY_MS).toISOString()}')`;
  for await (const { path } of parts.fileReading.all(environment, RECORDINGS, filter, author))
    await parts.fileChanges.remove({ environment, author }, path, {});
}
