// Calls made from the contract itself: every operation, every kind of caller, values that fit and values that do not.
import { gzipSync } from 'node:zlib';
import { addressOf, allOperations, createHttpClient, operations, SCOPES } from '@orchard/contract';
import { z } from 'zod';
import { AWKWARD_NAMES, seeded, toJson, Values } from './values.mjs';

/** What would take away the ground that later calls stand on is called with names of nothing. */
const ENDING = new Set(['environments.remove', 'apps.remove', 'keys.revoke', 'members.remove', 'members.patch']);
/** Calls that end the caller's own session: made by nobody only. */
const OWN_END = new Set(['memberSessions.end', 'memberSessions.endOthers', 'members.changePassword']);
/** After these a user has to sign in anew. */
const USER_END = new Set(['sessions.end', 'users.removeMe', 'users.changePassword']);
const OWNER = { email: 'mira@quillfell.example', name: 'Mira Quill', password: 'orchard-in-bloom' };
const PASSWORD = 'ridge-and-river';

/** An app with keys, people and records. @param setupAddress the one-time address of a fresh service */
export async function prepare(address, setupAddress) {
  const anyone = createHttpClient({ address });
  await anyone.call(operations.members.setUp, { body: { token: new URL(setupAddress).searchParams.get('token'), ...OWNER } });
  const { token } = await anyone.call(operations.members.signIn, { body: { email: OWNER.email, password: OWNER.password, as: 'token' } });
  return prepareAs(address, token);
}

export async function prepareAs(address, token) {
  const anyone = createHttpClient({ address });
  const owner = createHttpClient({ address, headers: () => ({ authorization: `Bearer ${token}` }) });
  await owner.call(operations.apps.create, { body: { name: 'fuzz' } });
  const params = { app: 'fuzz', environment: 'dev' };
  await owner.call(operations.clients.create, { params, body: { name: 'web', kind: 'web', origins: ['https://hiker.example'] } });
  const client = await owner.call(operations.clients.create, { params, body: { name: 'ios', kind: 'ios' } });
  await owner.call(operations.clients.create, { params, body: { name: 'office', kind: 'server' } });
  const serverKey = async (name, scopes) =>
    (await owner.call(operations.clients.createKey, { params: { ...params, client: 'office' }, body: { name, scopes } })).key;
  const [all, none] = [await serverKey('all', [...SCOPES]), await serverKey('one', ['users:read'])];
  const viewer = { email: 'fuzz-viewer@quillfell.example', name: 'Ines', password: 'orchard-in-bloom' };
  await owner.call(operations.members.add, { body: { ...viewer, roles: [{ app: 'fuzz', role: 'viewer' }] } });
  const seen = await anyone.call(operations.members.signIn, { body: { email: viewer.email, password: viewer.password, as: 'token' } });
  const put = (collection, id, body) =>
    fetch(`${address}/app/v1/data/${collection}/${id}`, {
      method: 'PUT',
      headers: { 'orchard-key': all, 'content-type': 'application/json' },
      body: JSON.stringify(body),
    });
  await put('huts', 'fellgate', { name: 'Fellgate', bunks: 12, position: { type: 'Point', coordinates: [8.3, 61.3] } });
  await put('bookings', 'b1', { hut: 'fellgate', nights: 2, constructor: 'x', toString: 'y' });
  const clientKey = client.keys[0].key;
  return { address, token, viewer: seen.token, clientKey, all, none, owner };
}

async function userToken({ address, clientKey }, random) {
  const email = `fuzz${Math.floor(random() * 1e9)}@hikers.example`;
  const reply = await fetch(`${address}/app/v1/users`, {
    method: 'POST',
    headers: { 'orchard-key': clientKey, 'content-type': 'application/json' },
    body: JSON.stringify({ email, password: PASSWORD }),
  });
  return (await reply.json()).accessToken;
}

const CALLERS = {
  nobody: () => ({}),
  mistyped: ({ clientKey }) => ({ 'orchard-key': `${clientKey.slice(0, -1)}!`, authorization: 'Basic eDp5' }),
  client: ({ clientKey }) => ({ 'orchard-key': clientKey }),
  user: ({ clientKey }, user) => ({ 'orchard-key': clientKey, authorization: `Bearer ${user}` }),
  server: ({ all }) => ({ 'orchard-key': all }),
  weakServer: ({ none }) => ({ 'orchard-key': none }),
  owner: ({ token }) => ({ authorization: `Bearer ${token}` }),
  viewer: ({ viewer }) => ({ authorization: `Bearer ${viewer}` }),
};
/** Callers who get past the rights of an operation more often than not. */
const FITTING = { anyone: ['nobody'], app: ['client', 'user', 'user', 'server'], server: ['server'], member: ['owner'] };

const schemas = new Map();
function schemaOf(zod) {
  let known = schemas.get(zod);
  if (!known) schemas.set(zod, (known = z.toJSONSchema(zod, { io: 'input', unrepresentable: 'any' })));
  return known;
}

const PARAMS = {
  app: ['fuzz'],
  environment: ['dev', 'dev', 'live'],
  collection: ['huts', 'bookings', 'constructor', 'toString', 'nowhere'],
  id: ['fellgate', 'b1', 'constructor', '__proto__', '00000000-0000-7000-8000-000000000000', 'device-0001'],
};

function paramsOf(operation, values) {
  const names = [...operation.path.matchAll(/\{(\w+)\}/g)].map(([, name]) => name);
  return Object.fromEntries(
    names.map((name) => {
      if (ENDING.has(operation.id)) return [name, 'nothing-here'];
      return [
        name,
        values.chance(0.9) ? values.of(PARAMS[name] ?? ['a', 'ridge-weather', 'device-0001', 'constructor']) : values.of(AWKWARD_NAMES),
      ];
    }),
  );
}

/** The next call, whole. */
function callOf(operation, values, ground, user) {
  const caller = OWN_END.has(operation.id)
    ? 'nobody'
    : values.chance(0.75)
      ? values.of(FITTING[operation.caller.kind])
      : values.of(Object.keys(CALLERS));
  const query = operation.query ? values.forSchema(schemaOf(operation.query)) : {};
  const path = addressOf(operation, {
    params: paramsOf(operation, values),
    query: query && typeof query === 'object' ? cleaned(query, values) : {},
  });
  const headers = { ...CALLERS[caller](ground, user) };
  if (values.chance(0.1)) headers['idempotency-key'] = `fuzz-${values.below(50)}-aaaaaaaa`;
  if (values.chance(0.1)) headers['if-match'] = values.of(['"1"', '"x"', '*', '"99999999999"']);
  if (values.chance(0.05)) headers['last-event-id'] = values.of(['0', '99999', 'x', '-1']);
  if (values.chance(0.05)) headers['orchard-device'] = values.of(['device-0001', 'x'.repeat(300)]);
  const call = { operation: operation.id, caller, method: operation.method, path, headers };
  if (!operation.body && !operation.rawBody) return call;
  headers['content-type'] = operation.rawBody ? values.of(operation.rawBody) : values.chance(0.97) ? 'application/json' : 'text/plain';
  const text = values.chance(0.04)
    ? values.of(['{', '[', 'null', '"\\ud800"', '1e999', ''])
    : toJson(operation.body ? values.forSchema(schemaOf(operation.body)) : values.record());
  call.body = text ?? 'null';
  if (values.chance(0.03)) {
    headers['content-encoding'] = values.of(['gzip', 'deflate', 'br', 'zstd']);
    if (values.chance(0.5)) call.body = gzipSync(call.body);
  }
  return call;
}

/** A query holds texts; what is no text is written as JSON. Lengths go a little beyond what an address may have. */
const cleaned = (query, values) =>
  Object.fromEntries(
    Object.entries(query)
      .slice(0, 50)
      .map(([name, value]) => [
        name,
        (typeof value === 'object' ? toJson(value) : String(value)).slice(0, values.chance(0.9) ? 500 : 9_000).toWellFormed(),
      ]),
  );

async function make({ address }, { method, path, headers, body }) {
  const started = performance.now();
  const stopping = new AbortController();
  const timer = setTimeout(() => stopping.abort(), 20_000);
  try {
    const reply = await fetch(address + path, {
      method,
      headers,
      signal: stopping.signal,
      ...(body === undefined ? {} : { body }),
    });
    const isStream = (reply.headers.get('content-type') ?? '').startsWith('text/event-stream');
    const text = isStream ? '' : await reply.text();
    if (isStream) stopping.abort();
    return { status: reply.status, text, ms: performance.now() - started };
  } catch (error) {
    return { status: 0, text: String(error.cause ?? error), ms: performance.now() - started };
  } finally {
    clearTimeout(timer);
  }
}

/** Whether a service may answer so: anything but a failure; a 503 only as a declared problem. */
export function isFailure({ status, text }) {
  if (status > 0 && status < 500) return false;
  return !(status === 503 && text.includes('"/docs/problems/'));
}

/**
 * Makes calls and answers how they went.
 * @param ground what {@link prepare} answered
 * @param options seed, how many calls, how many at once, operations whose id begins so, and what to do after each call
 */
export async function fuzz(ground, { seed = 1, calls = 2_000, atOnce = 4, only = '', after } = {}) {
  const values = new Values(seeded(seed));
  const chosen = allOperations.filter(({ id }) => !only || id.startsWith(only));
  const report = { calls: 0, statuses: {}, failures: [], times: [], slowest: [] };
  let user = await userToken(ground, values.random);
  let left = calls;
  async function hand() {
    while (left-- > 0) {
      if (values.chance(0.02)) user = await userToken(ground, values.random);
      const call = callOf(values.of(chosen), values, ground, user);
      const answer = await make(ground, call);
      if (USER_END.has(call.operation) && call.caller === 'user') user = await userToken(ground, values.random);
      report.calls++;
      report.statuses[answer.status] = (report.statuses[answer.status] ?? 0) + 1;
      report.times.push(answer.ms);
      if (answer.ms > 1_000)
        report.slowest.push({
          operation: call.operation,
          ms: Math.round(answer.ms),
          path: call.path.slice(0, 200),
          body: String(call.body ?? '').slice(0, 200),
        });
      await after?.(call);
      if (isFailure(answer))
        report.failures.push({
          ...call,
          body: String(call.body ?? '').slice(0, 300),
          path: call.path.slice(0, 300),
          headers: Object.keys(call.headers),
          answer: answer.text.slice(0, 300),
          status: answer.status,
        });
    }
  }
  await Promise.all(Array.from({ length: atOnce }, hand));
  return report;
}
