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
interface Reach {
  records<K extends keyof Collections>(collection: K): Records<Collections[K]>;
  secret(name: string): Promise<string>;
  fetch(address: string, options?: { method?: string; headers?: Record<string, string>; body?: unknown }): Promise<{ status: number; headers: Record<string, string>; text: string; json: any }>;
  log: { info(...values: unknown[]): void; warn(...values: unknown[]): void; error(...values: unknown[]): void };
  refuse(text: string, options?: { status?: number; field?: string }): never;
}
interface EndpointRequest {
  method: string;
  path: string;
  params: Record<string, string>;
  query: Record<string, string>;
  body: any;
  caller: { kind: 'user' | 'client' | 'server'; userId: string | null; roles: string[] };
}
type EndpointAnswer = { status?: number; headers?: Record<string, string>; body?: unknown } | null | undefined | void;
type Endpoint = (request: EndpointRequest, reach: Reach) => EndpointAnswer | Promise<EndpointAnswer>;
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
    title: 'What it can reach',
    text: 'Two arguments, and nothing else: the request, and what is below. There is no network, no file and no clock but these, and nothing is kept from one call to the next.',
    code: FUNCTION_TYPES.trim(),
  },
  {
    title: 'Whose rights it has',
    text: 'With `rights: "caller"` its reads and writes pass the rules as those of whoever calls it. With `rights: "own"` no rules apply, as for a server key. `fetch` goes to the hosts of the function alone, over https, and never to a private address.',
  },
  {
    title: 'Limits',
    text: '200 ms of the processor and 10 s in all, 32 MB of memory, 200 calls, an answer of a million characters. A run that goes over one is stopped, and its caller gets `function-stopped`. A function that throws gives `function-failed`; why is among its runs, under the id of the request. `refuse` answers in your own words.',
  },
];
