import { operations, Problem } from '@orchard/contract';
import { definedIn, writeHar } from '@orchard/core';
import { authorOf, bind, type Call, environmentOf, type Route } from '../../platform/call.js';
import { EventStream } from '../../platform/live/eventStream.js';
import { streamMarks } from '../../platform/live/markStream.js';
import type { Platform } from '../../platform/platform.js';
import { readProblems } from './problems.js';
import { demandRange } from './range.js';
import type { RecordingSettings } from './recording.js';
import { listSearches, removeSearch, saveSearch } from './searchStore.js';
import { listRequests, readRequest, readRequests, type Searched } from './store.js';
import { readUsage } from './usage.js';

type Parts = Platform & { recording: RecordingSettings };

export function telemetryRoutes(parts: Parts): Route[] {
  const own = operations.telemetry;
  const { installation } = parts.servers;
  const { settings } = parts.recording;
  return [
    bind(own.usage, async (call) => {
      const { client, route, target, by, compare } = call.query;
      if ((by === 'version' || by === 'country') && (route || target))
        throw new Problem('invalid-input', 'Versions and countries are counted for all routes together.', {
          fields: [
            {
              path: 'query.by',
              problem: 'cannot be combined with `route` or `target`',
              expected: 'client or status; or leave out `route` and `target`',
            },
          ],
        });
      const range = { ...demandRange(call.query, parts.now()), client, route, target, by };
      return { body: await readUsage(environmentOf(call).db, range, parts.now(), compare === 'previous') };
    }),
    bind(own.requests, async (call) => ({ body: await listRequests(environmentOf(call).db, call.query, parts) })),
    bind(own.installationRequests, async (call) => ({ body: await listRequests(installation, call.query, parts) })),
    bind(own.installationRequest, async (call) => ({ body: await readRequest(installation, call.params.request) })),
    bind(own.har, (call) => exportHar(parts, call)),
    bind(own.request, async (call) => ({ body: await readRequest(environmentOf(call).db, call.params.request) })),
    bind(own.problems, async (call) => {
      const { from, until } = demandRange(call.query, parts.now());
      const items = await readProblems(environmentOf(call).db, from, until, parts.now());
      return { body: { from: new Date(from).toISOString(), until: new Date(until).toISOString(), items } };
    }),
    bind(own.recording, async (call) => ({ body: await settings.read(environmentOf(call)) })),
    bind(
      own.changeRecording,
      async (call) => ({ body: await parts.recording.change(environmentOf(call), definedIn(call.body), new Date(parts.now())) }),
      { subject: () => 'recording', read: (call) => settings.read(environmentOf(call)) },
    ),
    bind(own.searches, async (call) => ({ body: { items: await listSearches(environmentOf(call)) } })),
    bind(own.saveSearch, async (call) => ({
      body: await saveSearch(environmentOf(call), { id: parts.newId(), ...call.body, by: authorOf(call), at: new Date(parts.now()) }),
    })),
    bind(own.removeSearch, async (call) => ({ body: (await removeSearch(environmentOf(call), call.params.search)) as undefined }), {
      read: async (call) => (await listSearches(environmentOf(call))).find(({ id }) => id === call.params.search) ?? null,
    }),
    bind(own.changes, async (call) => {
      streamMarks(parts, environmentOf(call), new EventStream(call, parts));
      return 'streaming';
    }),
  ];
}

async function exportHar(parts: Parts, call: Pick<Call, 'environment' | 'response'> & { query: Searched }): Promise<'streaming'> {
  const { app, name, db } = environmentOf(call);
  const requests = await readRequests(db, call.query, parts);
  const har = writeHar(
    requests.map((one) => ({ ...one, url: one.direction === 'out' ? one.path : `${parts.address()}${one.path}` })),
    '0.1.0',
  );
  call.response.status(200).setHeader('content-type', 'application/json; charset=utf-8');
  call.response.setHeader('content-disposition', `attachment; filename="${app}-${name}.har"`);
  call.response.end(JSON.stringify(har));
  return 'streaming';
}
