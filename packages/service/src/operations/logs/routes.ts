import { operations } from '@orchard/contract';
import { orNone } from '../../platform/audit/audit.js';
import { bind, type Call, environmentOf, type Naming, type Route } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';
import { demandError, listErrors, settleError } from './errorStore.js';
import { takeEntries } from './intake.js';
import type { Levels } from './levels.js';
import { listSourceMaps } from './sourceMapStore.js';
import type { SourceMaps } from './sourceMaps.js';
import { requestsAsEntriesSql } from '../telemetry/store.js';
import { entriesAround, listEntries, listWithRequests, type Searched } from './logStore.js';

type Parts = Platform & { levels: Levels; sourceMaps: SourceMaps };
const BATCH = 1_000;

export function logRoutes(parts: Parts): Route[] {
  const own = operations.log;
  const { levels } = parts;
  return [
    bind(own.add, async (call) => ({ body: await takeEntries(parts, call) })),
    bind(own.list, async (call) => {
      const { around, requests, ...request } = call.query;
      const { db } = environmentOf(call);
      if (around) return { body: { items: await entriesAround(db, around) } };
      const isMixed = requests === 'true';
      return {
        body: isMixed ? await listWithRequests(db, requestsAsEntriesSql(db), request, parts) : await listEntries(db, request, parts),
      };
    }),
    bind(own.export, (call) => exportEntries(parts, call)),
    bind(own.levels, async (call) => ({ body: await levels.read(environmentOf(call)) })),
    bind(own.changeLevels, async (call) => ({ body: await levels.change(environmentOf(call), call.body) }), {
      subject: (call) => call.body.source ?? 'log',
      read: (call) => levels.read(environmentOf(call)),
    }),
    bind(own.errors, async (call) => ({ body: await listErrors(environmentOf(call), call.query, parts) })),
    bind(own.sourceMaps, async (call) => ({ body: { items: await listSourceMaps(environmentOf(call)) } })),
    bind(own.putSourceMap, async (call) => ({ body: await parts.sourceMaps.put(environmentOf(call), call.body, new Date(parts.now())) }), {
      subject: ({ body }) => `${body.version} ${body.file}`,
    }),
    bind(
      own.settle,
      async (call) => {
        const environment = environmentOf(call);
        await demandError(environment, call.params.error);
        await settleError(environment, call.params.error, call.body.version, new Date(parts.now()));
        return { body: await demandError(environment, call.params.error) };
      },
      { read: (call: Naming<{ error: string }>) => orNone(demandError(environmentOf(call), call.params.error)) },
    ),
  ];
}

/** Latest first, a page at a time, as fast as the reader takes it. */
async function exportEntries(
  parts: Parts,
  call: Pick<Call, 'environment' | 'response'> & { query: Omit<Searched, 'limit' | 'cursor'> },
): Promise<'streaming'> {
  const { app, name, db } = environmentOf(call);
  const { response } = call;
  let page = await listEntries(db, { ...call.query, limit: BATCH }, parts);
  response.status(200).setHeader('content-type', 'application/x-ndjson; charset=utf-8');
  response.setHeader('content-disposition', `attachment; filename="${app}-${name}-log.ndjson"`);
  for (;;) {
    const hasRoom = response.write(page.items.map((item) => `${JSON.stringify(item)}\n`).join(''));
    if (!hasRoom) await new Promise((resolve) => response.once('drain', resolve).once('close', resolve));
    if (!page.next || response.destroyed) break;
    page = await listEntries(db, { ...call.query, limit: BATCH, cursor: page.next }, parts);
  }
  response.end();
  return 'streaming';
}
