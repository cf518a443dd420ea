/** The library that apps use: `connect` with the client profile, then call. */
import type { BatchResult, Device, IceServers, User } from '@orchard/contract';
import { type AccountHandle, accountHandle } from './accounts.js';
import { type BroadcastsHandle, broadcastsHandle } from './broadcasts.js';
import { type ChannelHandle, channelHandle } from './channels.js';
import { type CollectionHandle, collectionHandle } from './collection.js';
import { type DeviceHandle, deviceHandle, deviceHeaders, registerDevice } from './devices.js';
import { type EventProperties, EventQueue, type PendingEvent, type Refused } from './eventQueue.js';
import type { OrchardRecord } from './exports.js';
import { type FilesHandle, filesHandle } from './files.js';
import { type LogHandle, logHandle } from './log.js';
import { type PathHandle, pathHandle } from './outside.js';
import { Problem, Unreachable } from './problem.js';
import type { Registration } from './push.js';
import { introduce } from './introduction.js';
import type { QueuedFile } from './offline/types.js';
import { Session } from './session.js';
import { defaultStorage, type Storage } from './storage.js';
import { ChangesWaiting, SyncControl, type SyncHandle } from './sync.js';
import { type CallOptions, type CallTold, Transport } from './transport.js';
import type { BodyTo, CallId, InputOf, ReplyTo } from './types.js';
import type { Value } from './value.js';

export { ChangesWaiting, Problem, Unreachable };
export type { From, LiveList, LiveRecord, ReadOptions } from './collection.js';
export type { Conflict, OnConflict, PendingChange, Scope, SyncCounts, SyncState } from './offline/offline.js';
export type { Backing } from './offline/types.js';
export type { PushMessage, PushState } from './push.js';
export type { Upload, UploadState } from './upload.js';
export type { SyncHandle, SyncOptions } from './sync.js';
export type {
  AccountHandle,
  BroadcastsHandle,
  CallOptions,
  CallTold,
  ChannelHandle,
  CollectionHandle,
  DeviceHandle,
  EventProperties,
  FilesHandle,
  LogHandle,
  PathHandle,
  Refused,
  Storage,
  Value,
};

/** The client profile: what an app ships with. */
export type Profile = { address: string; clientKey: string };
export type Options = Profile & {
  storage?: Storage;
  fetch?: typeof globalThis.fetch;
  /** Milliseconds since 1970. */
  now?: () => number;
  /** Told of each attempt of a call, for the app's own logging. */
  onCall?: (told: CallTold) => void;
  /** Says once, on the console, what it reached or why not; `false` says nothing. */
  introduce?: boolean;
};
/** Events of a device: what people do in the app. `Plan` is what `orchard event types` writes; without it, any event goes. */
export type EventsHandle<Plan = Record<string, EventProperties>> = {
  /** Keeps an event; it is sent with others soon, and when the app goes to the background. */
  track: <Name extends keyof Plan & string>(name: Name, properties?: Plan[Name]) => Promise<void>;
  /** Sends what waits now. */
  flush: () => Promise<void>;
};
export type EventOptions = { consent?: () => boolean; onRefused?: (refused: Refused) => void };
/** The same for the device that the app runs on, and for others by their ids. */
export type Events = EventsHandle & {
  /**
   * Events of one device, which must be registered.
   * @param options.consent whether the person consents, where the environment asks for it
   * @param options.onRefused told of each event that the service does not take
   */
  <Plan = Record<string, EventProperties>>(id?: string, options?: EventOptions): EventsHandle<Plan>;
  /** Visits and screens are counted by themselves, until the returned function is called. */
  automatic: () => () => void;
};
/** `Schema` is what `orchard types` writes: records by collection. */
export type AnySchema = { [collection: string]: OrchardRecord };
export type Orchard<Schema = AnySchema> = {
  /** The signed-in user; null while nobody is. */
  user: Value<User | null>;
  signUp: (account: BodyTo<'users.signUp'>) => Promise<User>;
  signIn: (email: string, password: string) => Promise<User>;
  /** @throws {ChangesWaiting} where changes on the device have not reached the service, unless they are to be discarded */
  signOut: (options?: { pending?: 'ask' | 'discard' }) => Promise<void>;
  me: () => Promise<User>;
  /** Mails a one-time address for setting a new password; in `dev` without a mail gateway, returns it. */
  forgotPassword: (email: string) => Promise<{ address?: string | undefined }>;
  changePassword: (password: string, newPassword: string) => Promise<void>;
  /** Deletes the account of the signed-in user. */
  deleteAccount: (password: string) => Promise<void>;
  /** Every other way to sign in, and what people do with their accounts. */
  account: AccountHandle;
  collection: <Name extends keyof Schema & string>(name: Name) => CollectionHandle<Schema[Name]>;
  /** Up to 1,000 actions on several collections, all or nothing; `{ _new: name }` refers to what an action before created `as` it. */
  batch: (actions: BodyTo<'batches.app'>['actions']) => Promise<BatchResult[]>;
  /** What the device keeps at hand, and how it comes up to date. */
  sync: SyncHandle;
  files: FilesHandle;
  /** The device that the app runs on. */
  device: DeviceHandle;
  registerDevice: (id: string, registration: Registration) => Promise<Device>;
  /** Reports notifications as received or opened. */
  report: (id: string, items: BodyTo<'devices.report'>['items']) => Promise<void>;
  /** Makes this device follow or unfollow a topic. */
  follow: (id: string, topic: string) => Promise<void>;
  unfollow: (id: string, topic: string) => Promise<void>;
  channel: (name: string) => ChannelHandle;
  events: Events;
  log: LogHandle;
  /** Endpoints of the team. */
  endpoints: PathHandle;
  /** Operations of an upstream. */
  upstream: (name: string) => PathHandle;
  broadcasts: BroadcastsHandle;
  /** `applicationServerKey` for a web push subscription. */
  pushKey: () => Promise<string>;
  /** For a new RTCPeerConnection: STUN and TURN servers, with credentials of the signed-in user that are valid for a while. */
  iceServers: () => Promise<IceServers>;
  /** What the key leads to: app, environment and client. */
  connection: () => Promise<ReplyTo<'clients.connection'>>;
  /** Any call of the service by its name, such as `call('users.topics', {})`. */
  call: <Id extends CallId>(id: Id, input: InputOf<Id>, options?: CallOptions) => Promise<ReplyTo<Id>>;
};

/** Connects an app. Calls renew the access token when it is about to expire. */
export function connect<Schema = AnySchema>({
  address: given,
  clientKey,
  storage,
  now = Date.now,
  introduce: says,
  ...options
}: Options): Orchard<Schema> {
  const address = given.replace(/\/+$/, '');
  const name = `orchard:${address}:${clientKey.slice(-6)}`;
  const doFetch = options.fetch ?? ((...call: Parameters<typeof fetch>) => globalThis.fetch(...call));
  const ground = { address, key: clientKey, fetch: doFetch, now, onCall: options.onCall };
  const anonymous = new Transport({ ...ground, who: async () => ({}) });
  const session = new Session(storage ?? defaultStorage(name), name, now, (refreshToken) =>
    anonymous.call('users.startSession', { body: { refreshToken } }),
  );
  const transport = new Transport({ ...ground, who: () => session.headers() });
  const warn = (text: string) => console.warn(`Vivid Orchard: ${text}`);
  const newId = () => crypto.randomUUID();
  const request = async (to: string, init: RequestInit) => transport.raw(to, init);

  const log = logHandle(async (entries) => transport.call('log.add', { body: { entries } }, { headers: await ownDevice() }), now);
  const device = deviceHandle(transport, session, (text) => {
    warn(text);
    log('warning', text);
  });
  /** Names this device where it is registered. */
  const ownDevice = async (): Promise<Record<string, string>> => {
    const headers = await deviceHeaders(session, await device.id(), true);
    return 'orchard-device-secret' in headers ? headers : {};
  };
  const files = filesHandle(transport, request);
  const sendFile = async ({ path, content, address: resume }: QueuedFile, began: (address: string) => Promise<void>) => {
    const send = async (from?: string) => {
      const upload = await files.upload(path, content, { waits: false, ...(from ? { resume: from } : {}) });
      if (!from) await began(await upload.address);
      await upload.done;
    };
    // An upload that waited too long is begun anew.
    await send(resume).catch((error) => (resume && (error as Problem).status === 404 ? send() : Promise.reject(error)));
    return (await files.describe(path)).id;
  };
  const sync = new SyncControl(transport, session, name, { now, newId, headers: ownDevice, warn, sendFile });
  const events = eventsOf(transport, session, device, { now, newId, warn });
  /** What was done so far goes under the name of who did it. */
  const begin = async (tokens: () => Promise<ReplyTo<'users.startSession'>>): Promise<User> => {
    await events.flushAll();
    return session.begin(await tokens());
  };
  if (says !== false) void introduce(transport, address, clientKey);

  return {
    user: session.user,
    // Whoever signs in is not who was signed in before: the old token, ended perhaps, stays out of it.
    signUp: (body) => begin(() => anonymous.call('users.signUp', { body })),
    signIn: (email, password) => begin(() => anonymous.call('users.startSession', { body: { email, password } })),
    signOut: async ({ pending = 'ask' } = {}) => {
      await sync.leave(pending);
      await events.flushAll();
      await transport.call('users.endSession', {}).catch(() => undefined);
      await session.change({ tokens: null });
    },
    me: async () => session.noteUser(await transport.call('users.readMe', {})),
    forgotPassword: (email) => anonymous.call('users.forgotPassword', { body: { email } }),
    changePassword: (password, newPassword) =>
      transport.call('users.changePassword', { body: { password, newPassword } }) as Promise<never>,
    deleteAccount: async (password) => {
      await transport.call('users.removeMe', { body: { password } });
      await sync.leave('discard');
      await session.change({ tokens: null });
    },
    account: accountHandle(address, clientKey, { transport, anonymous }, session, (tokens) => begin(async () => tokens)),
    collection: (collection) => collectionHandle(transport, sync, collection, warn) as never,
    batch: async (actions) => (await transport.call('batches.app', { body: { actions } })).results,
    sync: sync.handle,
    files,
    device,
    registerDevice: (id, body) => registerDevice(transport, session, id, body),
    report: async (id, items) =>
      void (await transport.call('devices.report', { params: { id }, body: { items } }, { headers: await deviceHeaders(session, id) })),
    follow: async (id, topic) =>
      void (await transport.call('devices.follow', { params: { id, topic } }, { headers: await deviceHeaders(session, id) })),
    unfollow: async (id, topic) =>
      void (await transport.call('devices.unfollow', { params: { id, topic } }, { headers: await deviceHeaders(session, id) })),
    channel: (channel) => channelHandle(transport, channel),
    events: events.handle,
    log,
    endpoints: pathHandle(transport, 'endpoints'),
    upstream: (upstream) => pathHandle(transport, 'upstreamCalls', { upstream }),
    broadcasts: broadcastsHandle(transport, request),
    pushKey: async () => (await transport.call('devices.pushKey', {})).applicationServerKey,
    iceServers: () => transport.call('turn.credentials', {}),
    connection: () => transport.call('clients.connection', {}),
    call: (id, input, how) => transport.call(id, input, how),
  };
}

/** Queues of events, one for each device. */
function eventsOf(
  transport: Transport,
  session: Session,
  device: DeviceHandle,
  { now, newId, warn }: { now: () => number; newId: () => string; warn: (text: string) => void },
) {
  const queues = new Map<string, EventQueue>();
  const queueOf = (id: string, { consent, onRefused }: EventOptions = {}): EventQueue => {
    let queue = queues.get(id);
    if (queue) return queue;
    const send = async (events: PendingEvent[]) => {
      // Events name a registered device: the app's own registers itself when it first has something to say.
      if (id === (await device.id()) && !Object.hasOwn((await session.kept()).secrets, id)) await device.register();
      return transport.call(
        'events.bring',
        { body: { sentAt: new Date(now()).toISOString(), events, ...(consent ? { consent: consent() } : {}) } },
        { headers: { ...(await deviceHeaders(session, id)), 'orchard-device': id } },
      );
    };
    queue = new EventQueue({
      read: async () => (await session.kept()).events,
      write: async (events) => void (await session.change({ events })),
      send,
      now,
      newId,
      // For whoever writes the app: a refused event is a mistake that no user sees.
      onRefused: onRefused ?? (({ name, detail }) => warn(`The event ${name} is not taken: ${detail}`)),
    });
    queues.set(id, queue);
    return queue;
  };
  const own = async () => queueOf(await device.id());
  const handle = ((id?: string, options?: EventOptions) => {
    const queue = async () => (id === undefined ? queueOf(await device.id(), options) : queueOf(id, options));
    return {
      track: async (name: string, properties?: EventProperties) => (await queue()).track(name, properties),
      flush: async () => (await queue()).flush(),
    };
  }) as Events;
  return {
    flushAll: () => Promise.all([...queues.values()].map((queue) => queue.flush())),
    handle: Object.assign(handle, {
      track: (async (name: string, properties?: EventProperties) => (await own()).track(name, properties)) as Events['track'],
      flush: async () => (await own()).flush(),
      automatic: () => {
        const track = (name: string, properties: EventProperties) => void own().then((queue) => queue.track(name, properties));
        const { document: page } = globalThis as { document?: Document };
        const screen = () => track('screen_shown', { screen: location.pathname });
        track('app_opened', {});
        screen();
        globalThis.addEventListener?.('popstate', screen);
        const shown = () => page?.visibilityState === 'visible' && track('app_opened', {});
        page?.addEventListener('visibilitychange', shown);
        return () => {
          globalThis.removeEventListener?.('popstate', screen);
          page?.removeEventListener('visibilitychange', shown);
        };
      },
    }),
  };
}
