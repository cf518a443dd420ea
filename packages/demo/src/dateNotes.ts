/** Releases of the apps, as notes on their dates. */
import { type HttpClient, operations } from '@orchard/contract';
import { RELEASES } from './releases.js';
import { APP } from './scenario.js';

const DAY_MS = 86_400_000;
const IN_CHARTS_DAYS = 90;

export async function seedDateNotes(owner: HttpClient, now: number): Promise<void> {
  for (const environment of ['dev', 'live'])
    for (const [version, daysAgo] of RELEASES.filter(([, days]) => days <= IN_CHARTS_DAYS))
      await owner.call(operations.dateNotes.add, {
        params: { app: APP.name, environment },
        body: { at: new Date(now - daysAgo * DAY_MS).toISOString().slice(0, 10), text: `${version} in the stores` },
      });
}
