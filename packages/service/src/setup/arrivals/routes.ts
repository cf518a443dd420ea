import { stat } from 'node:fs/promises';
import { type ArrivalDocument, operations, Problem } from '@orchard/contract';
import { authorOf, bind, type Call, type Route } from '../../platform/call.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { asProblem } from '../backups/places.js';
import type { Arriving } from './arriving.js';
import type { Parts } from './parts.js';
import type { ArrivalRow, ArrivalStore } from './store.js';

export function arrivalRoutes(parts: Parts, store: ArrivalStore, arriving: Arriving): Route[] {
  const own = operations.arrivals;
  const show = (row: ArrivalRow) => present(parts, row);
  const arrival = (call: Pick<Call, 'headers'>) => arriving.ofTicket(ticketOf(call));
  const ready = async (call: Pick<Call, 'headers'>) => arriving.ready(await arrival(call));
  return [
    bind(
      own.begin,
      async (call) => {
        const { row, ticket } = await arriving.ticket(authorOf(call as Call));
        return { body: { ...show(row), ticket } };
      },
      { after: ({ ticket: _, ...document }) => document },
    ),
    bind(own.list, async () => ({ body: { items: (await store.list()).map(show) } })),
    bind(
      own.remove,
      async (call) => {
        const row = await store.find(call.params.arrival);
        if (!row) throw new Problem('not-found', `There is no arrival ${call.params.arrival}.`);
        if (row.endedAt) throw new Problem('wrong-state', `This arrival is ${row.state} already.`);
        await arriving.giveUp(row);
        return { body: undefined };
      },
      { as: 'apart' },
    ),
    bind(own.announce, async (call) => {
      const row = await arrival(call);
      await arriving.announce(row, call.body);
      return { body: await arriving.progress(row) };
    }),
    bind(own.state, async (call) => ({ body: await arriving.progress(await arrival(call)) })),
    bind(own.files, async (call) => ({ body: { items: await arriving.folder(await arrival(call)).list(call.query.folder) } })),
    bind(own.writeFile, async (call) => {
      const row = await arrival(call);
      if (row.state !== 'receiving' && row.state !== 'ready') throw new Problem('wrong-state', `The arrival is ${row.state}.`);
      await arriving
        .folder(row)
        .write(call.params.path, call.request)
        .catch((error) => Promise.reject(asProblem(error)));
      return { body: undefined };
    }),
    bind(own.load, async (call) => {
      const row = await arrival(call);
      await arriving.beginLoading(row, call.body.backup, ticketOf(call));
      return { body: await arriving.progress(row) };
    }),
    bind(own.changes, async (call) => {
      await arriving.takeChanges(await ready(call), call.body.tables);
      return { body: undefined };
    }),
    bind(own.missing, async (call) => {
      const { environmentId } = await ready(call);
      const places = call.body.digests.map(async (digest) => ((await isThere(parts, environmentId, digest)) ? [] : [digest]));
      return { body: { missing: (await Promise.all(places)).flat() } };
    }),
    bind(own.content, async (call) => {
      const { environmentId } = await ready(call);
      await takeContent(parts, environmentId, call as Call, call.params.digest);
      return { body: undefined };
    }),
    bind(own.finish, async (call) => {
      const row = await arrival(call);
      // Asked again by somebody who did not hear the answer.
      if (row.state !== 'arrived') await arriving.finish(arriving.ready(row), call.body.setup, call.body.counts);
      return { body: await arriving.progress(row) };
    }),
    bind(own.giveUp, async (call) => {
      const row = await arrival(call);
      await arriving.giveUp(row);
      return { body: await arriving.progress(row) };
    }),
  ];
}

/** @throws {Problem} arrival-refused */
function ticketOf({ headers }: Pick<Call, 'headers'>): string {
  const ticket = /^Bearer\s+(\S+)$/i.exec(headers.authorization ?? '')?.[1];
  if (!ticket) throw new Problem('arrival-refused', 'The ticket is missing: send it as `Authorization: Bearer`.');
  return ticket;
}

const isThere = ({ contents }: Parts, environmentId: string, digest: string): Promise<boolean> =>
  stat(contents.bytes.place(environmentId, digest)).then(
    () => true,
    () => false,
  );

/** @throws {Problem} content-damaged */
async function takeContent({ contents: { bytes } }: Parts, environmentId: string, { request }: Call, digest: string): Promise<void> {
  const arrived = await bytes.take(environmentId, request);
  if (arrived.digest !== digest)
    throw new Problem('content-damaged', 'The content does not have the SHA-256 of its address. Send it again.');
  await bytes.keep(environmentId, arrived);
}

function present({ actors }: Parts, row: ArrivalRow): ArrivalDocument {
  const { id, state, app, environment, doing, problem } = row;
  return {
    id,
    state,
    app,
    environment,
    by: actors.show(row.by),
    at: row.at.toISOString(),
    expiresAt: row.expiresAt.toISOString(),
    endedAt: row.endedAt?.toISOString() ?? null,
    doing,
    problem,
    notes: storedJson(row.notes) as string[],
  };
}
