/** Things the team would want to hear of that no objective speaks of: new kinds of problem, unusual traffic, blocked origins. */
import { STEPS, unusualTraffic } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import { readProblems } from '../telemetry/problems.js';
import { hourlyCalls } from '../telemetry/countStore.js';
import { listBlockedOrigins } from '../../setup/apps/blockedOriginStore.js';
import type { Parts } from './parts.js';

const WEEK_MS = 7 * STEPS.day;
/** An environment this young has only new problems. */
const YOUNG_MS = STEPS.day;

export async function watchUnusual(parts: Parts, environment: Environment): Promise<void> {
  const now = parts.now();
  if (now - environment.createdAt.getTime() > YOUNG_MS) {
    await tellNewProblems(parts, environment, now);
    await tellTraffic(parts, environment, now);
  }
  await tellBlockedOrigins(parts, environment);
}

async function tellNewProblems(parts: Parts, environment: Environment, now: number): Promise<void> {
  const base = `/${environment.app}/${environment.name}`;
  for (const { problem, title, calls, isNew, routes } of await readProblems(environment.db, now - STEPS.hour, now, now)) {
    if (!isNew) continue;
    await parts.notices.tell({
      kind: 'new-problem',
      environmentId: environment.id,
      once: `problem ${environment.id} ${problem}`,
      title: `First seen: ${problem}`,
      body: `${title}: ${calls} ${calls === 1 ? 'call' : 'calls'} in the last hour, mostly ${routes[0]?.method} ${routes[0]?.route}.`,
      link: `${base}/requests?filter=${encodeURIComponent(`problem = '${problem}'`)}`,
    });
  }
}

/** The last whole hour against the same hour of the last four weeks. */
async function tellTraffic(parts: Parts, environment: Environment, now: number): Promise<void> {
  const hour = Math.floor(now / STEPS.hour) * STEPS.hour - STEPS.hour;
  const weeks = [1, 2, 3, 4].map((week) => hour - week * WEEK_MS).filter((at) => at >= environment.createdAt.getTime());
  const counts = await hourlyCalls(environment.db, [hour, ...weeks]);
  const calls = counts.get(hour) ?? 0;
  const before = weeks.map((at) => counts.get(at) ?? 0);
  const unusual = unusualTraffic(calls, before);
  if (!unusual) return;
  const usual = Math.round(before.reduce((sum, one) => sum + one, 0) / before.length);
  await parts.notices.tell({
    kind: 'traffic',
    environmentId: environment.id,
    once: `traffic ${environment.id} ${hour}`,
    title: unusual === 'many' ? 'Far more calls than usual' : 'Far fewer calls than usual',
    body: `${calls} calls from ${new Date(hour).toISOString().slice(0, 16).replace('T', ' ')} UTC on, within an hour; in the weeks before there were about ${usual}.`,
    link: `/${environment.app}/${environment.name}/api-use`,
  });
}

async function tellBlockedOrigins(parts: Parts, environment: Environment): Promise<void> {
  for (const { client, origin } of await listBlockedOrigins(parts, environment.id))
    await parts.notices.tell({
      kind: 'blocked-origin',
      environmentId: environment.id,
      once: `origin ${environment.id} ${client} ${origin}`,
      title: `Blocked: ${origin}`,
      body: `A web page at ${origin} tried to use the client ${client}, which does not list it. Allow it under Setup, Clients and keys, if it is yours.`,
      link: `/${environment.app}/${environment.name}/setup`,
    });
}
