/** What a function can reach, as TypeScript: for its check, its editor and its guide. `Collections` is the team's own schema. */
export const FUNCTION_TYPES = `
type Stored<T> = T & { id: string; version: number; createdAt: string; updatedAt: string; ownerId: string | null };
type Query<T> = { filter?: string; sort?: string; limit?: number; cursor?: string; fields?: string; include?: string; count?: boolean };
interface Records<T> {
  read(id: string, query?: { fields?: string; include?: string }): Promise<Stored<T>>;
  list(query?: Query<T>): Promise<{ items: Stored<T>[]; next?: string; count?: number }>;
  summary(query: { group?: string; measure?: string; filter?: string; limit?: number }): Promise<{ groups: Record<string, any>[]; more: boolean }>;
  create(record: Partial<T> & { id?: string; ownerId?: string }): Promise<Stored<T>>;
  put(id: string, record: Partial<T>, options?: { version?: number }): Promise<Stored<T>>;
  change(id: string, changes: Partial<T> & { _add?: Partial<Record<keyof T, number>> }, options?: { version?: number }): Promise<Stored<T>>;
  remove(id: string, options?: { version?: number }): Promise<void>;
}
type Action<K extends keyof Collections = keyof Collections> = { [C in K]:
  | { action: 'create'; collection: C; record: Partial<Collections[C]> & { id?: string; ownerId?: string }; as?: string }
  | { action: 'put' | 'patch'; collection: C; id: string; record: Partial<Collections[C]> & Record<string, any>; ifVersion?: number }
  | { action: 'delete'; collection: C; id: string; ifVersion?: number } }[K];
interface User { id: string; name: string | null; email: string | null; phone: string | null; roles: string[]; locale: string | null; zone: string | null; fields: Record<string, any>; [member: string]: any }
interface Logging { info(...values: unknown[]): void; warn(...values: unknown[]): void; error(...values: unknown[]): void }
interface Reach {
  records<K extends keyof Collections>(collection: K): Records<Collections[K]>;
  together(actions: Action[]): Promise<{ results: { status: number; id?: string; version?: number }[] }>;
  users: {
    read(id: string): Promise<User>;
    list(query?: { filter?: string; sort?: string; limit?: number; cursor?: string }): Promise<{ items: User[]; next?: string }>;
    change(id: string, changes: Record<string, unknown>): Promise<User>;
  };
  files: {
    read(path: string): Promise<StoredFile>;
    list(folder: string, query?: { filter?: string; sort?: string; limit?: number; cursor?: string; deep?: boolean }): Promise<{ items: StoredFile[]; next?: string }>;
    text(path: string): Promise<string>;
    write(path: string, text: string, properties?: Record<string, unknown>): Promise<StoredFile>;
    change(path: string, changes: Record<string, unknown>): Promise<StoredFile>;
    remove(path: string): Promise<void>;
    share(path: string, options?: { until?: string; count?: number; password?: string }): Promise<{ address: string }>;
  };
  notify(notification: Record<string, any>): Promise<{ id: string; [member: string]: any }>;
  channels(name: string): { publish(data: unknown, options?: Record<string, unknown>): Promise<any> };
  upstreams<U extends keyof Upstreams>(name: U): { call(path: Upstreams[U], options?: UpstreamCall): Promise<UpstreamAnswer> };
  providerToken(way: string): Promise<string | null>;
  secret(name: string): Promise<string>;
  fetch(address: string, options?: { method?: string; headers?: Record<string, string>; body?: unknown }): Promise<{ status: number; headers: Record<string, string>; text: string; json: any }>;
  log: Logging;
  refuse(text: string, options?: { status?: number; field?: string }): never;
}
interface UpstreamCall { method?: string; query?: Record<string, string>; headers?: Record<string, string>; body?: unknown }
interface UpstreamAnswer { status: number; headers: Record<string, string>; text: string; json: any; cached: boolean }
type Caller = { kind: 'user' | 'client' | 'server'; userId: string | null; roles: string[] };

interface EndpointRequest {
  method: string;
  path: string;
  params: Record<string, string>;
  query: Record<string, string>;
  body: any;
  caller: Caller;
}
type EndpointAnswer = { status?: number; headers?: Record<string, string>; body?: unknown } | null | undefined | void;
type Endpoint = (request: EndpointRequest, reach: Reach) => EndpointAnswer | Promise<EndpointAnswer>;

interface Joining<T> {
  create(record: Partial<T> & { id?: string; ownerId?: string }): Promise<{ id: string }>;
  put(id: string, record: Partial<T>, options?: { version?: number }): Promise<{ id: string }>;
  change(id: string, changes: Partial<T> & { _add?: Partial<Record<keyof T, number>> }, options?: { version?: number }): Promise<{ id: string }>;
  remove(id: string, options?: { version?: number }): Promise<{ id: string }>;
}
type BeforeReach = Omit<Reach, 'records' | 'together' | 'notify' | 'channels' | 'files'> & {
  files: Pick<Reach['files'], 'read' | 'list' | 'text'>;
  records<K extends keyof Collections>(collection: K): Pick<Records<Collections[K]>, 'read' | 'list' | 'summary'> & Joining<Collections[K]>;
  rely(collection: keyof Collections, id: string, version: number): Promise<void>;
};
type Event = { subject: string; id: string | null; caller: Caller; depth: number };
type Write<T> = Event & { action: 'create' | 'update' | 'delete'; before: Stored<T> | null; record: (Partial<T> & { ownerId?: string | null }) | null; sent: Record<string, any> };
type BeforeAnswer<T> = { record?: Partial<T> & { ownerId?: string | null }; answer?: Record<string, any> } | null | undefined | void;
type BeforeWrite<K extends keyof Collections> = (event: Write<Collections[K]>, reach: BeforeReach) => BeforeAnswer<Collections[K]> | Promise<BeforeAnswer<Collections[K]>>;
type AfterWrite<K extends keyof Collections> = (event: Event & { action: 'create' | 'update' | 'delete'; before: Stored<Collections[K]> | null; record: Stored<Collections[K]> | null; key: string; attempt: number }, reach: Reach) => unknown;
type Reading = { filter?: string; sort?: string; limit?: number };
type BeforeRead = (event: Event & { action: 'read' | 'list'; query: Reading }, reach: BeforeReach) => Reading | null | undefined | void | Promise<Reading | null | undefined | void>;
type Reshape<K extends keyof Collections> = (event: Event & { action: 'read' | 'list'; items: Stored<Collections[K]>[] }, reach: BeforeReach) => { items: Record<string, any>[] } | Promise<{ items: Record<string, any>[] }>;
interface StoredFile { id: string; path: string; folder: string; name: string; size: number; type: string; digest: string; edition: number; version: number; ownerId: string | null; [property: string]: any }
type BeforeFile = (event: Event & { action: 'create' | 'update' | 'delete'; before: StoredFile | null; record: StoredFile | null; sent: Record<string, any> }, reach: BeforeReach) => BeforeAnswer<Record<string, any>> | Promise<BeforeAnswer<Record<string, any>>>;
type AfterFile = (event: Event & { action: 'create' | 'update' | 'delete'; before: StoredFile | null; record: StoredFile | null; key: string; attempt: number }, reach: Reach) => unknown;
type BeforeAction = (event: Event & { action: 'create' | 'update' | 'delete'; value: Record<string, any> }, reach: BeforeReach) => { value?: Record<string, any> } | null | undefined | void | Promise<{ value?: Record<string, any> } | null | undefined | void>;
type AfterAction = (event: Event & { action: 'create' | 'update' | 'delete'; value: Record<string, any>; key: string; attempt: number }, reach: Reach) => unknown;
type Schedule = (event: { due: string; key: string; attempt: number }, reach: Reach) => unknown;
type Found = { answer?: any; refusal?: { text: string; status: number; field?: string }; error?: string };
declare function test(name: string, parts: {
  given?: { [K in keyof Collections]?: (Partial<Collections[K]> & { id?: string; ownerId?: string })[] };
  when?: Record<string, any>;
  then?: (found: Found, expect: { equal(found: unknown, wanted: unknown): void; holds(truth: unknown, words?: string): void }, reach: Reach) => unknown;
}): void;
declare const console: { log(...values: unknown[]): void; info(...values: unknown[]): void; warn(...values: unknown[]): void; error(...values: unknown[]): void };
`;

/** The guide at /docs/functions: a heading and its text, or its code. */
export const FUNCTION_GUIDE: { title: string; text: string; code?: string }[] = [
  {
    title: 'An endpoint',
    text: 'A function of the kind `endpoint` answers calls of apps and servers at `/app/v1/endpoints/{path}`. Its default export is the handler. It is in force from the next call on; nothing is deployed or restarted.',
    code: `const handler: Endpoint = async ({ params, query }, { records, refuse }) => {
  const hut = await records('huts').read(params.hut);
  if (hut.state === 'closed') refuse('The hut is closed.', { status: 409 });
  return { body: { hut: hut.name, price: Number(query.nights ?? 1) * 42.5 } };
};
export default handler;`,
  },
  {
    title: 'An endpoint without code',
    text: 'In place of code an endpoint can have one file, `combine.json`: calls of records and upstreams, which run in parallel where none needs the answer of another, and a template that joins what they answer. `failing` says what happens when a call fails: `refuse`, the default, `without`, or `{ "instead": … }`. `pages` follows an upstream from page to page. In a template a text that is one path alone takes the value as it is; `each`, `find` and `or` map lists, join them, and stand in for what is missing.',
    code: `{
  "calls": {
    "hut": { "records": "huts", "read": "{params.hut}" },
    "weather": { "upstream": "weather", "path": "/forecasts/{hut.id}", "failing": { "instead": { "sky": "unknown" } } },
    "prices": { "upstream": "payments", "path": "/prices", "pages": { "items": "items", "next": "next", "as": "cursor" } }
  },
  "answer": {
    "name": "{hut.name}",
    "sky": "{weather.sky}",
    "prices": { "each": "{prices.items}", "as": "price", "give": { "kind": "{price.kind}", "crowns": "{price.crowns}" } },
    "bunk": { "find": "{prices.items}", "where": { "kind": "bunk" }, "give": "{item.crowns}" }
  }
}`,
  },
  {
    title: 'A hook before a write',
    text: 'A function of the kind `hook` stands on what others do: `on: { "moment": "before", "collection": "bookings", "actions": ["create", "update"] }`. Before a write it may refuse it, or set fields in place of what was sent; `before` is the record as it is, `record` as it would be. It runs before the transaction of the write begins. What it writes itself joins that transaction, so its writes answer only the id. `rely` names the version of another record that must still hold then. Members of `answer` are added to the response of a creation, and are not stored.',
    code: `const handler: BeforeWrite<'bookings'> = async ({ record }, { records, rely, refuse }) => {
  const hut = await records('huts').read(record!.hut!);
  if (hut.freeBunks! < record!.party!) refuse('The hut has no bunks left.', { field: 'party' });
  await rely('huts', hut.id, hut.version);
  await records('huts').change(hut.id, { _add: { freeBunks: -record!.party! } });
  return { record: { state: 'reserved' }, answer: { payAt: '/pay/' + hut.id } };
};
export default handler;`,
  },
  {
    title: 'A hook after an action',
    text: 'With `"moment": "after"` it runs once the action is committed, as a job: it is retried when it fails, with longer and longer waits, and given up after twelve attempts. It runs at least once. `key` is the same for all attempts: send it along as key for idempotency.',
    code: `const handler: AfterWrite<'hazards'> = async ({ record, key }, { notify }) => {
  await notify({ audience: { everyone: true }, title: 'Hazard ahead', body: record!.title!, data: { key } });
};
export default handler;`,
  },
  {
    title: 'A hook on reads and lists',
    text: 'Before `read` and `list` it may narrow what callers find, besides the rules: `filter` holds for lists, live streams, summaries and included records alike, and `sort` and `limit` for lists. Server keys and members read past it, as they read past rules. With `"moment": "answer"` it reshapes what a read or a list answers; live streams and summaries are not reshaped.',
    code: `const handler: BeforeRead = ({ caller }) => (caller.roles.includes('warden') ? null : { filter: "state <> 'draft'" });
export default handler;`,
  },
  {
    title: 'A hook on files',
    text: 'With `"subject": "files"` it stands on what happens to files, as on records: `record` holds path, size, type and digest. Before a creation or a new edition the content has arrived, but nobody can read it yet; `files.text` reads it by its digest, so a check can refuse it. Properties may be set, facts may not.',
    code: `const handler: BeforeFile = async ({ record }, { files, refuse }) => {
  if (record!.folder.startsWith('routes') && !(await files.text(record!.digest)).includes('<gpx')) refuse('This is no GPX route.', { field: 'path' });
};
export default handler;`,
  },
  {
    title: 'A schedule',
    text: 'A function of the kind `schedule` runs by its `clock`, a cron expression of five parts in the time zone `zone`. One instance runs it. When no instance was up at its time, it runs `once` afterwards, for `each` time that was missed, or not at all (`skip`). A run that fails is retried, as that of a hook after an action.',
    code: `const handler: Schedule = async ({ due }, { records, log }) => {
  const { groups } = await records('bookings').summary({ filter: "arrives = DATE('" + due.slice(0, 10) + "')", measure: 'count' });
  log.info('arrivals today', groups[0]);
};
export default handler;`,
  },
  {
    title: 'Tests beside it',
    text: 'Files that end in `.test.ts` hold tests. They run before a version is saved, each in a transaction that is undone; one that fails refuses the version.',
    code: `test('a full hut takes no booking', {
  given: { huts: [{ id: 'h1', name: 'Fellgate', freeBunks: 1 }] },
  when: { record: { hut: 'h1', party: 2 } },
  then: ({ refusal }, { equal }) => equal(refusal?.text, 'The hut has no bunks left.'),
});`,
  },
  {
    title: 'What it can reach',
    text: 'Two arguments, and nothing else: what it is about, and what is below. There is no network, no file and no clock but these, and nothing is kept from one call to the next. `together` does several writes, all or nothing. `users`, `notify` and `channels` have the rights of a server key.',
    code: FUNCTION_TYPES.trim(),
  },
  {
    title: 'Whose rights it has',
    text: 'With `rights: "caller"` its reads and writes pass the rules as those of whoever calls it. With `rights: "own"` no rules apply, as for a server key. A schedule has rights of its own. Fields that a hook sets are the team’s: rules of fields do not apply to them. `fetch` goes to the hosts of the function alone, over https, and never to a private address.',
  },
  {
    title: 'Limits',
    text: '200 ms of the processor and 10 s in all, 32 MB of memory, 200 calls, an answer of a million characters; hooks trigger hooks at most 5 deep. A run that goes over one is stopped, and its caller gets `function-stopped`. A function that throws gives `function-failed`; why is among its runs, with the id of the request. `refuse` answers in your own words.',
  },
];
