import { z } from 'zod';
import { ENVIRONMENT, actor, environmentParams, forMembers, listQuery, nothing, operation, slug, time, uuid } from '../common.js';
import { file, filePath } from './fileDefinition.js';

const send = { kind: 'app', user: 'optional', scope: 'broadcasts:send' } as const;
const watch = { kind: 'app', user: 'optional', scope: 'broadcasts:watch' } as const;
const anyone = { kind: 'anyone' } as const;
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;

export const BROADCAST_STATES = ['waiting', 'live', 'ended'] as const;
const name = z
  .string()
  .max(200)
  .regex(/^[a-z0-9._-]+(\/[a-z0-9._-]+)*$/, 'Small letters, digits, . - _ and /, such as cameras/hollow-col.');
export const broadcast = z
  .object({
    id: uuid,
    name: z.string(),
    title: z.string(),
    state: z.enum(BROADCAST_STATES).describe('`waiting`: nothing has arrived yet, or not again'),
    ownerId: uuid.nullable(),
    by: actor,
    record: z.boolean().describe('Whether it is kept as a file when it ends'),
    video: z.boolean().nullable().describe('Null until something has arrived'),
    audio: z.boolean().nullable(),
    width: z.int().nullable(),
    height: z.int().nullable(),
    kbits: z.int().describe('A second, as it arrives: of the last seconds'),
    runs: z.int().describe('How often its device connected'),
    viewers: z.int(),
    createdAt: time,
    startedAt: time.nullable(),
    endedAt: time.nullable(),
    trouble: z.string().nullable().describe('Why it ended, or waits'),
    recording: z.string().nullable().describe('The path of the file it was kept as'),
  })
  .meta({ id: 'Broadcast' });
export type BroadcastDocument = z.infer<typeof broadcast>;
const newBroadcast = z.strictObject({
  name,
  title: z.string().max(200).default(''),
  record: z.boolean().default(false).describe('Whether it is kept as a file when it ends'),
});
const begun = broadcast
  .extend({
    ingest: z.object({
      address: z.string().describe('Takes one request of MPEG-TS or fragmented MP4, for as long as it goes on'),
      pieces: z.string().describe('Takes numbered pieces of a MediaRecorder by PUT, from 0 on: the number stands at its end'),
    }),
  })
  .meta({ id: 'BegunBroadcast', description: 'The addresses are not shown again' });
const view = z
  .object({ address: z.string().describe('An HLS playlist (RFC 8216)'), until: time })
  .meta({ id: 'BroadcastView', description: 'The address is for whoever asked for it' });
export const viewersOf = z
  .object({ viewers: z.int(), users: z.array(z.object({ userId: z.string(), since: time })) })
  .meta({ id: 'BroadcastViewers' });
export type BroadcastViewers = z.infer<typeof viewersOf>;

const rule = z.string().trim().min(1).max(4000).describe('A filter in CQL2 over `name` and `ownerId`');
export const broadcastSettings = z
  .object({
    send: rule,
    watch: rule,
    mostAtOnce: z.int().min(1).max(50),
    mostMinutes: z.int().min(1).max(1440),
    mostKbits: z.int().min(100).max(50_000),
    silentSeconds: z.int().min(5).max(600).describe('A broadcast of which nothing arrives any more ends after this'),
    keepRecordingsDays: z.int().min(1).max(3650).nullable().describe('Null: for ever'),
  })
  .meta({ id: 'BroadcastSettings' });
export type BroadcastSettings = z.infer<typeof broadcastSettings>;

const one = z.object({ id: z.string().max(64) });
const REFUSALS = ['not-found', 'access-refused'] as const;
const listing = z.strictObject({
  state: z.enum(BROADCAST_STATES).optional(),
  limit: listQuery.shape.limit,
});

const begin = operation({
  id: 'broadcasts.begin',
  changes: 'broadcast',
  method: 'POST',
  path: '/app/v1/broadcasts',
  summary: 'Begin a broadcast: an address to send live video or audio to',
  caller: send,
  body: newBroadcast,
  status: 201,
  reply: begun,
  problems: ['access-refused', 'too-many-broadcasts', 'no-encoder'],
});
const list = operation({
  id: 'broadcasts.list',
  command: 'broadcast list',
  method: 'GET',
  path: '/app/v1/broadcasts',
  summary: 'Broadcasts that the caller may watch, newest first',
  caller: watch,
  query: listing,
  reply: z.object({ items: z.array(broadcast) }),
});
const read = operation({
  id: 'broadcasts.read',
  command: 'broadcast show',
  method: 'GET',
  path: '/app/v1/broadcasts/{id}',
  summary: 'A broadcast and how it fares',
  caller: watch,
  params: one,
  reply: broadcast,
  problems: [...REFUSALS],
});
const end = operation({
  id: 'broadcasts.end',
  changes: 'broadcast',
  command: 'broadcast end',
  method: 'POST',
  path: '/app/v1/broadcasts/{id}/end',
  summary: 'End a broadcast',
  caller: send,
  params: one,
  reply: broadcast,
  problems: [...REFUSALS],
});
const open = operation({
  id: 'broadcasts.watch',
  changes: 'nothing',
  method: 'POST',
  path: '/app/v1/broadcasts/{id}/views',
  summary: 'An address to watch a broadcast at',
  caller: watch,
  params: one,
  status: 201,
  reply: view,
  problems: [...REFUSALS],
});
const viewers = operation({
  id: 'broadcasts.viewers',
  command: 'broadcast viewers',
  method: 'GET',
  path: '/app/v1/broadcasts/{id}/viewers',
  summary: 'Who watches a broadcast now; for those who may send it',
  caller: send,
  params: one,
  reply: viewersOf,
  problems: [...REFUSALS],
});
const cut = operation({
  id: 'recordings.cut',
  changes: 'file',
  method: 'POST',
  path: '/app/v1/recording-cuts',
  summary: 'Cut a part out of a recording, as a file of its own',
  caller: { kind: 'app', user: 'optional', scope: 'files:write' },
  body: z.strictObject({ path: filePath, fromMs: z.int().min(0), toMs: z.int().min(1), to: filePath }),
  status: 201,
  reply: file,
  problems: [
    ...REFUSALS,
    'invalid-input',
    'already-exists',
    'no-encoder',
    'quota-exceeded',
    'storage-full',
    'file-too-large',
    'version-conflict',
    'refused-by-function',
    'function-failed',
    'function-stopped',
    'hooks-too-deep',
  ],
});

const place = z.object({ app: slug, environment: slug, secret: z.string().max(2000) });
const INGEST = '/broadcasts/{app}/{environment}/ingest/{secret}';
const ingested = z
  .object({ id: uuid, state: z.enum(BROADCAST_STATES), next: z.int().describe('The number of the piece that is awaited') })
  .meta({ id: 'Ingested' });
const INGEST_PROBLEMS = [
  'not-found',
  'broadcast-ended',
  'broadcast-refused',
  'piece-missing',
  'too-many-broadcasts',
  'no-encoder',
] as const;
const ANY = ['video/mp2t', 'video/mp4', 'video/webm', 'audio/webm', 'audio/mp4', 'application/octet-stream'];
const ingest = (method: 'POST' | 'PUT') =>
  operation({
    id: `broadcasts.ingest${method === 'PUT' ? 'ByPut' : ''}`,
    method,
    path: INGEST,
    summary: 'Send a broadcast as one request of MPEG-TS or fragmented MP4',
    caller: anyone,
    params: place,
    rawBody: ANY,
    reply: ingested,
    problems: [...INGEST_PROBLEMS],
  });
const piece = operation({
  id: 'broadcasts.piece',
  method: 'PUT',
  path: `${INGEST}/{number}`,
  summary: 'Send the next piece of a MediaRecorder; one that was sent before is taken as it is. Number 0 begins anew',
  caller: anyone,
  params: place.extend({ number: z.coerce.number().int().min(0).max(1_000_000) }),
  rawBody: ANY,
  reply: ingested,
  problems: [...INGEST_PROBLEMS],
});
const watched = operation({
  id: 'broadcasts.watched',
  method: 'GET',
  path: '/broadcasts/{app}/{environment}/watch/{secret}/{path...}',
  summary: 'Playlists and segments of a broadcast (RFC 8216)',
  caller: anyone,
  params: place.extend({ path: z.string().max(200) }),
  replyTypes: ['application/vnd.apple.mpegurl', 'video/mp4'],
  reply: nothing,
  problems: ['not-found', 'link-refused'],
});

export const broadcastOperations = {
  begin,
  list,
  read,
  end,
  open,
  viewers,
  cut,
  ingestByPut: ingest('PUT'),
  ingest: ingest('POST'),
  piece,
  watched,
};
export const managedBroadcastOperations = {
  begin: forMembers(begin, 'developer'),
  list: forMembers(list, 'viewer'),
  read: forMembers(read, 'viewer'),
  end: forMembers(end, 'developer'),
  open: forMembers(open, 'viewer'),
  viewers: forMembers(viewers, 'viewer'),
  cut: forMembers(cut, 'developer'),
  remove: operation({
    id: 'broadcasts.remove',
    changes: 'broadcast',
    command: 'broadcast remove',
    method: 'DELETE',
    path: `${ENVIRONMENT}/broadcasts/{id}`,
    summary: 'Forget a broadcast that has ended; a recording of it stays',
    caller: developer,
    params: environmentParams.extend(one.shape),
    status: 204,
    reply: nothing,
    problems: ['not-found', 'wrong-state'],
  }),
  settings: operation({
    id: 'broadcasts.settings',
    method: 'GET',
    path: `${ENVIRONMENT}/broadcast-settings`,
    summary: 'Who may send and watch, and the limits of broadcasts',
    caller: viewer,
    params: environmentParams,
    reply: broadcastSettings,
  }),
  changeSettings: operation({
    id: 'broadcasts.changeSettings',
    changes: 'broadcast settings',
    command: 'broadcast rules',
    method: 'PATCH',
    path: `${ENVIRONMENT}/broadcast-settings`,
    summary: 'Change who may send and watch, and the limits of broadcasts',
    caller: maintainer,
    params: environmentParams,
    body: z.strictObject(broadcastSettings.partial().shape),
    reply: broadcastSettings,
    problems: ['malformed-filter'],
  }),
};
