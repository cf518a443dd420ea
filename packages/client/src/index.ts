/** The library that apps use: `connect` with the client profile, then call. */
import {
  type BodyInputOf,
  type BatchAction,
  type BatchResult,
  type ChannelMessage,
  createHttpClient,
  type Device,
  followEvents,
  type LiveEvent,
  operations,
  type OrchardRecord,
  type Presence,
  Problem,
  type QueryInputOf,
  type ReplyOf,
  type User,
} from '@orchard/contract';

export { Problem };
export type Profile = { address: string; clientKey: string };
type Tokens = ReplyOf<typeof operations.users.startSession>;
/** Keeps the session over restarts of the app; in a browser, localStorage does. */
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
   * Events of one record (`{ id }`) or of a filter, also over broken connections, until the answered function is
   * called. `onProblem` is told when the service refuses.
   */
  watch: (
    what: { id: string } | { filter?: string },
    onEvent: (event: LiveEvent) => void,
    onProblem?: (problem: Problem) => void,
  ) => () => void;
};
/** One channel. */
export type ChannelHandle = {
  publish: (data: Json, notify?: { title: string; body?: string; link?: string }) => Promise<ChannelMessage>;
  history: (limit?: number) => Promise<ChannelMessage[]>;
  presence: () => Promise<Presence>;
  /** Messages and who comes and goes, also over broken connections, until the answered function is called. */
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
  collection: (name: string) => CollectionHandle;
  registerDevice: (id: string, registration: BodyInputOf<typeof operations.devices.put>) => Promise<Device>;
  /** Tells that notifications were received or opened. */
  report: (id: string, items: BodyInputOf<typeof operations.devices.report>['items']) => Promise<void>;
  /** Lets this device follow a topic, or follow it no more. */
  follow: (id: string, topic: string) => Promise<void>;
  unfollow: (id: string, topic: string) => Promise<void>;
  channel: (name: string) => ChannelHandle;
  /** `applicationServerKey` for a web push subscription. */
  pushKey: () => Promise<string>;
};

const RENEW_BEFORE_MS = 30_000;

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

/** Connects an app. Calls renew the access token by themselves when it is about to run out. */
export function connect(options: Options): Orchard {
  const storage = options.storage ?? defaultStorage(options);
  const http = createHttpClient({
    address: options.address,
    headers: () => ({ 'orchard-key': options.clientKey }),
    ...(options.fetch ? { fetch: options.fetch } : {}),
  });
  let tokens: Tokens | null | undefined;
  let renewing: Promise<Tokens | null> | null = null;

  async function keep(next: Tokens | null): Promise<Tokens | null> {
    tokens = next;
    await storage.write(next ? JSON.stringify(next) : null);
    return next;
  }
  /** A refresh token is good for one use, so callers at the same time share one renewal. */
  function renew(refreshToken: string): Promise<Tokens | null> {
    renewing ??= http
      .call(operations.users.startSession, { body: { refreshToken } })
      .then(keep, async (error: unknown) => {
        if (error instanceof Problem && error.status === 401) return keep(null);
        throw error;
      })
      .finally(() => {
        renewing = null;
      });
    return renewing;
  }
  async function headers(more: Record<string, string> = {}): Promise<{ headers: Record<string, string> }> {
    if (tokens === undefined) tokens = JSON.parse((await storage.read()) ?? 'null') as Tokens | null;
    if (tokens && Date.parse(tokens.accessTokenExpiresAt) - RENEW_BEFORE_MS < Date.now()) tokens = await renew(tokens.refreshToken);
    return { headers: { ...(tokens ? { authorization: `Bearer ${tokens.accessToken}` } : {}), ...more } };
  }
  const over = (version: number | undefined): Record<string, string> => (version === undefined ? {} : { 'if-match': `"${version}"` });
  const { users, records, devices, channels } = operations;

  return {
    signUp: async (account) => ((await keep(await http.call(users.signUp, { body: account }))) as Tokens).user,
    signIn: async (email, password) => ((await keep(await http.call(users.startSession, { body: { email, password } }))) as Tokens).user,
    signOut: async () => {
      await http.call(users.endSession, await headers()).catch(() => undefined);
      await keep(null);
    },
    me: async () => http.call(users.readMe, await headers()),
    collection: (collection) => ({
      create: async (body) => http.call(records.create, { params: { collection }, body, ...(await headers()) }),
      read: async (id) => http.call(records.read, { params: { collection, id }, ...(await headers()) }),
      list: async (query = {}) => http.call(records.list, { params: { collection }, query, ...(await headers()) }),
      put: async (id, body, version) => http.call(records.put, { params: { collection, id }, body, ...(await headers(over(version))) }),
      change: async (id, body, version) =>
        http.call(records.patch, { params: { collection, id }, body, ...(await headers(over(version))) }),
      remove: async (id, version) => http.call(records.remove, { params: { collection, id }, ...(await headers(over(version))) }),
      batch: async (actions, together = true) =>
        (await http.call(records.batch, { params: { collection }, body: { actions, together }, ...(await headers()) })).results,
      summary: async (query) => http.call(records.summary, { params: { collection }, query, ...(await headers()) }),
      watch: (what, onEvent, onProblem) => {
        const stopping = new AbortController();
        const open = async (more: Record<string, string>, signal: AbortSignal) => {
          const own = { ...(await headers(more)), signal };
          return 'id' in what
            ? http.open(records.liveOne, { params: { collection, id: what.id }, ...own })
            : http.open(records.live, { params: { collection }, query: what, ...own });
        };
        followEvents({ open, onEvent, signal: stopping.signal }).catch((error) => onProblem?.(error as Problem));
        return () => stopping.abort();
      },
    }),
    report: async (id, items) => void (await http.call(devices.report, { params: { id }, body: { items }, ...(await headers()) })),
    follow: async (id, topic) => http.call(devices.follow, { params: { id, topic }, ...(await headers()) }),
    unfollow: async (id, topic) => http.call(devices.unfollow, { params: { id, topic }, ...(await headers()) }),
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
    registerDevice: async (id, body) => http.call(devices.put, { params: { id }, body, ...(await headers()) }),
    pushKey: async () => (await http.call(devices.pushKey, await headers())).applicationServerKey,
  };
}
