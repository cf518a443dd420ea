import { type BroadcastDocument, operations, Problem } from '@orchard/contract';
import { bind, type Call, type Environment, environmentOf, type Route } from '../../platform/call.js';
import { authorOf } from '../records/author.js';
import { filePathOf } from '../files/paths.js';
import { hashKey, newSecret } from '../../platform/access/secrets.js';
import { BroadcastAccess, demandReadable } from './access.js';
import type { Parts } from './parts.js';
import { cutRecording } from './recording.js';
import type { Sending } from './sending.js';
import { broadcastSettings } from './settings.js';
import {
  addBroadcast,
  type BroadcastRow,
  countOpen,
  countViewers,
  findBroadcast,
  findBySecret,
  listBroadcasts,
  removeBroadcasts,
  viewersNow,
} from './store.js';
import type { Watching } from './watching.js';

type Own = typeof operations.broadcasts;
const APART = { as: 'apart' } as const;

export type BroadcastsRoom = { parts: Parts; sending: Sending; watching: Watching };

export function broadcastRoutes(room: BroadcastsRoom): Route[] {
  const access = new BroadcastAccess(room.parts);
  const own = operations.broadcasts;
  return [...bindShared(room, access, own), ...bindOpen(room, own)];
}

export function managedBroadcastRoutes(room: BroadcastsRoom): Route[] {
  const access = new BroadcastAccess(room.parts);
  const own = operations.managedBroadcasts;
  const { parts, sending } = room;
  return [
    ...bindShared(room, access, own as unknown as Own),
    bind(
      own.remove,
      async (call) => {
        const environment = environmentOf(call);
        const row = await named(environment, call.params.id);
        if (row.state !== 'ended') throw new Problem('wrong-state', 'This broadcast goes on. End it first.');
        await removeBroadcasts(environment, [row.id]);
        await sending.forget(environment, row.id);
        return { body: undefined };
      },
      APART,
    ),
    bind(own.settings, async (call) => ({ body: await broadcastSettings.read(environmentOf(call)) })),
    bind(
      own.changeSettings,
      async (call) => {
        const environment = environmentOf(call);
        demandReadable(call.body.send);
        demandReadable(call.body.watch);
        broadcastSettings.forget(environment);
        const settings = { ...(await broadcastSettings.read(environment)), ...call.body };
        await broadcastSettings.write(environment, settings as never, new Date(parts.now()));
        return { body: settings as never };
      },
      { read: (call) => broadcastSettings.read(environmentOf(call)) },
    ),
  ];
}

/** @throws {Problem} not-found */
async function named(environment: Environment, id: string): Promise<BroadcastRow> {
  const row = await findBroadcast(environment, id);
  if (!row) throw new Problem('not-found', `There is no broadcast ${id}.`);
  return row;
}

async function present({ parts }: BroadcastsRoom, environment: Environment, rows: readonly BroadcastRow[]): Promise<BroadcastDocument[]> {
  const viewers = await countViewers(
    environment,
    rows.map(({ id }) => id),
    new Date(parts.now()),
  );
  return rows.map((row) => ({
    ...{ id: row.id, name: row.name, title: row.title, state: row.state, ownerId: row.ownerId, record: Boolean(row.record) },
    by: environment.actors.show(row.by),
    video: row.video === null ? null : Boolean(row.video),
    audio: row.audio === null ? null : Boolean(row.audio),
    ...{ width: row.width, height: row.height, kbits: row.kbits, runs: row.runs, trouble: row.trouble, recording: row.recording },
    viewers: viewers.get(row.id) ?? 0,
    createdAt: row.createdAt.toISOString(),
    startedAt: row.startedAt?.toISOString() ?? null,
    endedAt: row.endedAt?.toISOString() ?? null,
  }));
}

function bindShared(room: BroadcastsRoom, access: BroadcastAccess, own: Own): Route[] {
  const { parts, sending, watching } = room;
  const one = async (call: Call, row: BroadcastRow) => (await present(room, environmentOf(call), [row]))[0] as BroadcastDocument;
  return [
    bind(
      own.begin,
      async (call) => {
        const environment = environmentOf(call);
        const { userId, by } = authorOf(call);
        const { name, title, record } = call.body;
        await access.demand(call as Call, 'send', { name, ownerId: userId });
        const { mostAtOnce } = await broadcastSettings.read(environment);
        if ((await countOpen(environment)) >= mostAtOnce)
          throw new Problem('too-many-broadcasts', `${mostAtOnce} broadcasts go on already, which is the most.`);
        const secret = newSecret();
        const now = new Date(parts.now());
        const row: BroadcastRow = {
          ...{ id: parts.newId(), name, title, record, ownerId: userId, by, secret: hashKey(secret), state: 'waiting' },
          ...{ video: null, audio: null, width: null, height: null, kbits: 0, bytes: 0, runs: 0, nextPiece: 0 },
          ...{ createdAt: now, startedAt: null, lastAt: now, endedAt: null, trouble: null, recording: null },
        };
        await addBroadcast(environment, row);
        sending.await(environment, row);
        const address = `${parts.address()}/broadcasts/${environment.app}/${environment.name}/ingest/${secret}`;
        return { body: { ...(await one(call as Call, row)), ingest: { address, pieces: `${address}/` } } };
      },
      { after: ({ id, name }) => ({ id, name }) },
    ),
    bind(own.list, async (call) => {
      const environment = environmentOf(call);
      const rows = await listBroadcasts(environment, call.query.state, call.query.limit);
      const seen = await Promise.all(rows.map((row) => access.may(call as Call, 'watch', row)));
      return {
        body: {
          items: await present(
            room,
            environment,
            rows.filter((_, i) => seen[i]),
          ),
        },
      };
    }),
    bind(own.read, async (call) => {
      const row = await named(environmentOf(call), call.params.id);
      await access.demand(call as Call, 'watch', row);
      return { body: await one(call as Call, row) };
    }),
    bind(
      own.end,
      async (call) => {
        const environment = environmentOf(call);
        const row = await named(environment, call.params.id);
        access.demandOwn(call as Call, row);
        await sending.end(environment, row, null);
        return { body: await one(call as Call, await named(environment, row.id)) };
      },
      APART,
    ),
    bind(own.open, async (call) => {
      const environment = environmentOf(call);
      const row = await named(environment, call.params.id);
      await access.demand(call as Call, 'watch', row);
      return { body: watching.open(environment, row, authorOf(call).userId) };
    }),
    bind(own.viewers, async (call) => {
      const environment = environmentOf(call);
      const row = await named(environment, call.params.id);
      access.demandOwn(call as Call, row);
      const rows = await viewersNow(environment, row.id, new Date(parts.now()));
      const users = rows.flatMap(({ userId, since }) => (userId ? [{ userId, since: since.toISOString() }] : []));
      return { body: { viewers: rows.length, users } };
    }),
    bind(
      own.cut,
      async (call) => {
        const { path, fromMs, toMs, to } = call.body;
        const wanted = { from: path, fromMs, toMs, to: filePathOf(to, 'body.to') };
        return { body: await cutRecording(parts, environmentOf(call), authorOf(call), wanted) };
      },
      APART,
    ),
  ];
}

/** Addresses that need no key: what they hold is the right. */
function bindOpen({ parts, sending, watching }: BroadcastsRoom, own: Own): Route[] {
  const placed = async (call: Call<Own['ingest']> | Call<Own['watched']>): Promise<Environment> => {
    call.environment = await parts.directory.here(call.params.app, call.params.environment);
    return call.environment;
  };
  const awaited = async (environment: Environment, secret: string): Promise<BroadcastRow> => {
    const row = await findBySecret(environment, hashKey(secret));
    if (!row) throw new Problem('not-found', 'There is no such ingest address. It was mistyped, or its broadcast is gone.');
    if (row.state === 'ended') throw new Problem('broadcast-ended');
    return row;
  };
  const stream = async (call: Call<Own['ingest']>) => {
    const environment = await placed(call);
    const { id, state } = await sending.stream(call as Call, environment, await awaited(environment, call.params.secret));
    return { body: { id, state, next: 0 } };
  };
  return [
    bind(own.ingest, stream),
    bind(own.ingestByPut, stream),
    bind(own.piece, async (call) => {
      const environment = await placed(call as never);
      const row = await awaited(environment, call.params.secret);
      const { id, state, nextPiece } = await sending.piece(call as Call, environment, row, call.params.number);
      return { body: { id, state, next: nextPiece } };
    }),
    bind(own.watched, async (call) => watching.answer(call as Call, await placed(call), call.params.secret, call.params.path)),
  ];
}
