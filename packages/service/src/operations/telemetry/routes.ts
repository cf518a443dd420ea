import { operations, Problem } from '@orchard/contract';
import { bind, environmentOf, type Route } from '../../platform/call.js';
import { EventStream } from '../../platform/live/eventStream.js';
import { streamMarks } from '../../platform/live/markStream.js';
import type { Platform } from '../../platform/platform.js';
import { listRequests, readRequest } from './store.js';
import { readUsage } from './usage.js';

const DAY_MS = 86_400_000;

export function telemetryRoutes(parts: Platform): Route[] {
  const own = operations.telemetry;
  return [
    bind(own.usage, async (call) => {
      const until = call.query.until ? Date.parse(call.query.until) : parts.now();
      const from = call.query.from ? Date.parse(call.query.from) : until - DAY_MS;
      if (from >= until)
        throw new Problem('invalid-input', '`from` must lie before `until`.', {
          fields: [{ path: 'query.from', problem: 'It is not before `until`.', expected: 'an earlier time' }],
        });
      return {
        body: await readUsage(environmentOf(call).db, { from, until, client: call.query.client, route: call.query.route }, parts.now()),
      };
    }),
    bind(own.requests, async (call) => ({
      body: await listRequests(environmentOf(call).db, call.query, parts),
    })),
    bind(own.installationRequests, async (call) => ({
      body: await listRequests(parts.servers.installation, call.query, parts),
    })),
    bind(own.installationRequest, async (call) => ({
      body: await readRequest(parts.servers.installation, call.params.request),
    })),
    bind(own.request, async (call) => ({ body: await readRequest(environmentOf(call).db, call.params.request) })),
    bind(own.changes, async (call) => {
      streamMarks(parts, environmentOf(call), new EventStream(call, parts));
      return 'streaming';
    }),
  ];
}
