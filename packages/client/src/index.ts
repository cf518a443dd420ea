/** The library that apps use: `connect` with the client profile, then call. */
import {
  type BodyInputOf,
  type BatchAction,
  type BatchResult,
  type ChannelMessage,
  createHttpClient,
  DEVICE_SECRET,
  type Device,
  followEvents,
  type IceServers,
  type LiveEvent,
  operations,
  type OrchardRecord,
  type Presence,
  Problem,
  type QueryInputOf,
  type ReplyOf,
  type User,
} from '@orchard/contract';

import { type EventProperties, EventQueue, type PendingEvent, type Refused } from './eventQueue.js';

export { Problem };
export type { EventProperties, Refused };
export type Profile = { address: string; clientKey: string };
type Tokens = ReplyOf<typeof operations.users.startSession>;
/** Secrets of devices by their ids. */
type Secrets = Record<string, string>;
type Kept = { tokens: Tokens | null; secrets: Secrets; events: PendingEvent[] };
/** Keeps the session across restarts of the app, as localStorage does in a browser. */
export type Storage = { read: () => string | null | Promise<string | null>; write: (value: string | null) => void | Promise<void> };
export type Options = Profile & { storage?: Storage; fetch?: typeof globalThis.fetch };
type Json = BodyInputOf<typeof operations.records.create>;
type SummaryQuery = QueryInputOf<typeof operations.records.summary>;
type ListQuery = QueryInputOf<typeof operations.records.list>;

/** One collection, as the signed-in user sees it. */
export type CollectionHandle = {
  create: (fields: Json) => Promise<OrchardRecord>;
  read: (id: string) => Promise<OrchardRecord>;
  list: (query?: ListQuery) => Promise<{ items: OrchardRecord[]; next?: string }>;
  /** Replaces or creates. With `version`, only over that version. */
  put: (id: string, fields: Json, version?: number) => Promise<OrchardRecord>;
  /** Changes some fields (merge patch). With `version`, only over that version. */
  change: (id: string, fields: Json, version?: number) => Promise<OrchardRecord>;
  remove: (id: string, version?: number) => Promise<void>;
  /** Up to 1,000 actions: all or nothing, or with `together: false` each on its own. */
  batch: (actions: BatchAction[], together?: boolean) => Promise<BatchResult[]>;
  /** Counts and measures of groups, such as `{ group: 'arrives:week', measure: 'count,sum:nights' }`. */
  summary: (query: SummaryQuery) => Promise<ReplyOf<typeof operations.records.summary>>;
  /**
   * Events of one record (`{ id }`) or of a filter, across reconnects, until the returned function is called. `onProblem` is
   * called when the service refuses.
   */
  watch: (
    what: { id: string } | { filter?: string },
    onEvent: (event: LiveEvent) => void,
    onProblem?: (problem: Problem) => void,
  ) => () => void;
};
/** Events of a device: what people do in the app. `Plan` is what `orchard event types` writes; without it, any event goes. */
export type EventsHandle<Plan = Record<string, EventProperties>> = {
  /** Keeps an event; it is sent with others soon, and when the app goes to the background. */
  track: <Name extends keyof Plan & string>(name: Name, properties?: Plan[Name]) => Promise<void>;
  /** Sends what waits now. */
  flush: () => Promise<void>;
};
/** One channel. */
export type ChannelHandle = {
  publish: (data: Json, notify?: { title: string; body?: string; link?: string }) => Promise<ChannelMessage>;
  history: (limit?: number) => Promise<ChannelMessage[]>;
  presence: () => Promise<Presence>;
  /** Messages and presence, across reconnects, until the returned function is called. */
  listen: (
    onEvent: (event: LiveEvent) => void,
    options?: { last?: number; device?: string; onProblem?: (problem: Problem) => void },
  ) => () => void;
};
export type Orchard = {
  signUp: (account: BodyInputOf<typeof operations.users.signUp>) => Promise<User>;
  signIn: (email: string, password: string) => Promise<User>;
  signOut: () => Promise<void>;
  me: () => Promise<User>;
  /** Mails a one-time address for setting a new password; in `dev` without a mail gateway, returns it. */
  forgotPassword: (email: string) => Promise<{ address?: string | undefined }>;
  changePassword: (password: string, newPassword: string) => Promise<void>;
  /** Deletes the account of the signed-in user. */
  deleteAccount: (password: string) => Promise<void>;
  collection: (name: string) => CollectionHandle;
  /** Up to 1,000 actions on several collections, all or nothing; `{ _new: name }` refers to what an action before created `as` it. */
  batch: (actions: BodyInputOf<typeof operations.batches.app>['actions']) => Promise<BatchResult[]>;
  registerDevice: (id: string, registration: BodyInputOf<typeof operations.devices.put>) => Promise<Device>;
  /** Reports notifications as received or opened. */
  report: (id: string, items: BodyInputOf<typeof operations.devices.report>['items']) => Promise<void>;
  /** Makes this device follow or unfollow a topic. */
  follow: (id: string, topic: string) => Promise<void>;
  unfollow: (id: string, topic: string) => Promise<void>;
  channel: (name: string) => ChannelHandle;
  /**
   * Events of this device, which must be registered.
   * @param options.consent whether the person consents, where the environment asks for it
   * @param options.onRefused told of each event that the service does not take
   */
  events: <Plan = Record<string, EventProperties>>(
    id: string,
    options?: { consent?: () => boolean; onRefused?: (refused: Refused) => void },
  ) => EventsHandle<Plan>;
  /** `applicationServerKey` for a web push subscription. */
  pushKey: () => Promise<string>;
  /** For a new RTCPeerConnection: STUN and TURN servers, with credentials of the signed-in user that are valid for a while. */
  iceServers: () => Promise<IceServers>;
};

const RENEW_BEFORE_MS = 30_000;
/** Addresses have room for 16 kB together with all headers; a longer filter is sent in a body. */
const isLong = (filter: string | undefined): boolean => (filter?.length ?? 0) > 2_000;
/** A query as a body, where numbers are numbers. */
const asBody = <Q extends { limit?: unknown; count?: unknown; excerpts?: unknown }>({ limit, count, excerpts, ...query }: Q) => ({
  ...query,
  ...(limit === undefined ? {} : { limit: Number(limit) }),
  ...(count === undefined ? {} : { count: String(count) === 'true' }),
  ...(excerpts === undefined ? {} : { excerpts: String(excerpts) === 'true' }),
});

/** In a browser the session is kept in localStorage, under the address and key it belongs to. */
function defaultStorage(profile: Profile): Storage {
  const name = `orchard:${profile.address}:${profile.clientKey.slice(-6)}`;
  const store = (
    globalThis as {
      localStorage?: { getItem(key: string): string | null; setItem(key: string, value: string): void; removeItem(key: string): void };
    }
  ).localStorage;
  if (store)
    return { read: () => store.getItem(name), write: (value) => (value === null ? store.removeItem(name) : store.setItem(name, value)) };
  let kept: string | null = null;
  return {
    read: () => kept,
    write: (value) => {
      kept = value;
    },
  };
}

/** Runs work while no other tab holds the lock of this name (Web Locks API); without such locks, at once. */
function exclusively(name: string): <T>(work: () => Promise<T>) => Promise<T> {
  const { locks } =
    (globalThis as { navigator?: { locks?: { request<T>(name: string, work: () => Promise<T>): Promise<T> } } }).navigator ?? {};
  return (work) => (locks ? locks.request(name, work) : work());
}

/** For whoever writes the app: a refused event is a mistake that no user sees. */
const warn = ({ name, detail }: Refused): void => console.warn(`Vivid Orchard does not take the event ${name}: ${detail}`);

const withDevice = (id: string, { headers }: { headers: Record<string, string> }) => ({ headers: { ...headers, 'orchard-device': id } });

/** Connects an app. Calls renew the access token when it is about to expire. */
export function connect(options: Options): Orchard {
  const storage = options.storage ?? defaultStorage(options);
  const http = createHttpClient({
    address: options.address,
    headers: () => ({ 'orchard-key': options.clientKey }),
    ...(options.fetch ? { fetch: options.fetch } : {}),
  });
  const alone = exclusively(`orchard:${options.address}:${options.clientKey.slice(-6)}`);
  let kept: Kept | undefined;
  let renewing: Promise<Kept> | null = null;

  /** What the storage holds now; another tab may have changed it. */
  async function readKept(): Promise<Kept> {
    const stored = JSON.parse((await storage.read()) ?? 'null') as Partial<Tokens & Kept> | null;
    const { secrets = {}, events = [], ...tokens } = stored ?? {};
    kept = { tokens: 'refreshToken' in tokens ? (tokens as Tokens) : null, secrets, events };
    return kept;
  }
  async function write(next: Kept): Promise<Kept> {
    kept = next;
    const secrets = Object.keys(next.secrets).length > 0 ? { secrets: next.secrets } : {};
    const events = next.events.length > 0 ? { events: next.events } : {};
    const value = { ...next.tokens, ...secrets, ...events };
    await storage.write(Object.keys(value).length > 0 ? JSON.stringify(value) : null);
    return next;
  }
  async function keep(tokens: Tokens | null): Promise<Kept> {
    return write({ ...(kept ?? (await readKept())), tokens });
  }
  async function keepSecret(device: string, secret: string): Promise<void> {
    const now = await readKept();
    await write({ ...now, secrets: { ...now.secrets, [device]: secret } });
  }
  const isStale = (tokens: Tokens) => Date.parse(tokens.accessTokenExpiresAt) - RENEW_BEFORE_MS < Date.now();
  /**
   * A refresh token is valid once, so concurrent calls share one renewal. So do tabs, where the browser has locks: the
   * second one finds the new tokens in the storage.
   */
  function renew(): Promise<Kept> {
    renewing ??= alone(async () => {
      const { tokens } = await readKept();
      if (!tokens || !isStale(tokens)) return kept as Kept;
      try {
        return await keep(await http.call(operations.users.startSession, { body: { refreshToken: tokens.refreshToken } }));
      } catch (error) {
        if (!(error instanceof Problem) || error.status !== 401) throw error;
        const meanwhile = (await readKept()).tokens;
        return meanwhile && meanwhile.refreshToken !== tokens.refreshToken ? (kept as Kept) : keep(null);
      }
    }).finally(() => {
      renewing = null;
    });
    return renewing;
  }
  async function headers(more: Record<string, string> = {}): Promise<{ headers: Record<string, string> }> {
    let { tokens } = kept ?? (await readKept());
    if (tokens && isStale(tokens)) tokens = (await renew()).tokens;
    return { headers: { ...(tokens ? { authorization: `Bearer ${tokens.accessToken}` } : {}), ...more } };
  }
  /** Calls for a device send its secret. */
  async function deviceHeaders(device: string): Promise<{ headers: Record<string, string> }> {
    const { secrets } = kept ?? (await readKept());
    const secret = Object.hasOwn(secrets, device) ? secrets[device] : undefined;
    return headers(secret ? { [DEVICE_SECRET.toLowerCase()]: secret } : {});
  }
  const over = (version: number | undefined): Record<string, string> => (version === undefined ? {} : { 'if-match': `"${version}"` });
  const { users, records, devices, channels } = operations;
  const queues = new Map<string, EventQueue>();
  /** What was done so far goes under the name of who did it. */
  const flushEvents = () => Promise.all([...queues.values()].map((queue) => queue.flush()));

  return {
    signUp: async (account) => {
      await flushEvents();
      return ((await keep(await http.call(users.signUp, { body: account }))).tokens as Tokens).user;
    },
    signIn: async (email, password) => {
      await flushEvents();
      return ((await keep(await http.call(users.startSession, { body: { email, password } }))).tokens as Tokens).user;
    },
    signOut: async () => {
      await flushEvents();
      await http.call(users.endSession, await headers()).catch(() => undefined);
      await keep(null);
    },
    me: async () => http.call(users.readMe, await headers()),
    forgotPassword: (email) => http.call(users.forgotPassword, { body: { email } }),
    changePassword: async (password, newPassword) =>
      http.call(users.changePassword, { body: { password, newPassword }, ...(await headers()) }),
    deleteAccount: async (password) => {
      await http.call(users.removeMe, { body: { password }, ...(await headers()) });
      await keep(null);
    },
    batch: async (actions) => (await http.call(operations.batches.app, { body: { actions }, ...(await headers()) })).results,
    collection: (collection) => ({
      create: async (body) => http.call(records.create, { params: { collection }, body, ...(await headers()) }),
      read: async (id) => http.call(records.read, { params: { collection, id }, ...(await headers()) }),
      list: async (query = {}) =>
        isLong(query.filter)
          ? http.call(records.query, { params: { collection }, body: asBody(query), ...(await headers()) })
          : http.call(records.list, { params: { collection }, query, ...(await headers()) }),
      put: async (id, body, version) => http.call(records.put, { params: { collection, id }, body, ...(await headers(over(version))) }),
      change: async (id, body, version) =>
        http.call(records.patch, { params: { collection, id }, body, ...(await headers(over(version))) }),
      remove: async (id, version) => http.call(records.remove, { params: { collection, id }, ...(await headers(over(version))) }),
      batch: async (actions, together = true) =>
        (await http.call(records.batch, { params: { collection }, body: { actions, together }, ...(await headers()) })).results,
      summary: async (query) =>
        isLong(query.filter)
          ? http.call(records.querySummary, { params: { collection }, body: asBody(query), ...(await headers()) })
          : http.call(records.summary, { params: { collection }, query, ...(await headers()) }),
      watch: (what, onEvent, onProblem) => {
        const stopping = new AbortController();
        const open = async (more: Record<string, string>, signal: AbortSignal) => {
          const own = { ...(await headers(more)), signal };
          return 'id' in what
            ? http.open(records.liveOne, { params: { collection, id: what.id }, ...own })
            : isLong(what.filter)
              ? http.open(records.queryLive, { params: { collection }, body: what, ...own })
              : http.open(records.live, { params: { collection }, query: what, ...own });
        };
        followEvents({ open, onEvent, signal: stopping.signal }).catch((error) => onProblem?.(error as Problem));
        return () => stopping.abort();
      },
    }),
    report: async (id, items) => void (await http.call(devices.report, { params: { id }, body: { items }, ...(await deviceHeaders(id)) })),
    follow: async (id, topic) => http.call(devices.follow, { params: { id, topic }, ...(await deviceHeaders(id)) }),
    unfollow: async (id, topic) => http.call(devices.unfollow, { params: { id, topic }, ...(await deviceHeaders(id)) }),
    channel: (channel) => ({
      publish: async (data, notify) =>
        http.call(channels.publish, { params: { channel }, body: { data, ...(notify ? { notify } : {}) }, ...(await headers()) }),
      history: async (limit) =>
        (await http.call(channels.history, { params: { channel }, query: limit ? { limit } : {}, ...(await headers()) })).items,
      presence: async () => http.call(channels.presence, { params: { channel }, ...(await headers()) }),
      listen: (onEvent, { last, device, onProblem } = {}) => {
        const stopping = new AbortController();
        const query = { ...(last ? { last } : {}), ...(device ? { device } : {}) };
        const open = async (more: Record<string, string>, signal: AbortSignal) =>
          http.open(channels.live, { params: { channel }, query, ...(await headers(more)), signal });
        followEvents({ open, onEvent, signal: stopping.signal }).catch((error) => onProblem?.(error as Problem));
        return () => stopping.abort();
      },
    }),
    registerDevice: async (id, body) => {
      const registered = await http.call(devices.put, { params: { id }, body, ...(await deviceHeaders(id)) });
      if (registered.secret) await keepSecret(id, registered.secret);
      return registered;
    },
    events: (id, { consent, onRefused = warn } = {}) => {
      let queue = queues.get(id);
      if (!queue) {
        const send = async (events: PendingEvent[]) =>
          http.call(operations.events.bring, {
            body: { sentAt: new Date().toISOString(), events, ...(consent ? { consent: consent() } : {}) },
            ...withDevice(id, await deviceHeaders(id)),
          });
        queue = new EventQueue({
          read: async () => (kept ?? (await readKept())).events,
          write: async (events) => void (await write({ ...(kept ?? (await readKept())), events })),
          send,
          now: Date.now,
          newId: () => crypto.randomUUID(),
          onRefused,
        });
        queues.set(id, queue);
      }
      const own = queue;
      return { track: (name, properties) => own.track(name, properties as EventProperties | undefined), flush: () => own.flush() };
    },
    pushKey: async () => (await http.call(devices.pushKey, await headers())).applicationServerKey,
    iceServers: async () => http.call(operations.turn.credentials, await headers()),
  };
}
