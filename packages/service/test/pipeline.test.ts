/** Calls on their way through the pipeline, with operations of the test's own: methods, paths, limits, refusals, records. */
import { createServer, request as send, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { type AnyOperation, Problem } from '@orchard/contract';
import express from 'express';
import pino from 'pino';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { z } from 'zod';
import { Rates } from '../src/platform/instances/rates.js';
import type { Answer, Call, Route } from '../src/platform/call.js';
import { AnswerLedger } from '../src/platform/http/answerBytes.js';
import { serveRoutes, serveUnknown } from '../src/platform/http/pipeline.js';
import type { Platform } from '../src/platform/platform.js';
import { emptyPorts } from '../src/platform/ports.js';

type Recorded = { operation: string; status: number; bytes: number; problem: string | undefined };
let recorded: Recorded[] = [];
let logged = '';
let server: Server;
let address = '';

const declare = (id: string, method: AnyOperation['method'], path: string, more: Partial<AnyOperation> = {}): AnyOperation =>
  ({
    id,
    method,
    path,
    summary: id,
    caller: { kind: 'anyone' },
    params: z.object(Object.fromEntries([...path.matchAll(/\{(\w+)(?:\.\.\.)?\}/g)].map(([, name]) => [name, z.string()]))),
    query: z.object({}),
    status: 200,
    problems: [],
    ...more,
  }) as AnyOperation;
const route = (operation: AnyOperation, handle: (call: Call) => Answer<unknown> | Promise<Answer<unknown>>): Route =>
  ({ operation, handle }) as unknown as Route;

const text = z.object({ text: z.string() });
const routes = [
  route(declare('tree.read', 'GET', '/app/v1/tree/{path...}'), ({ params }) => ({ body: params })),
  route(declare('upload.state', 'HEAD', '/app/v1/uploads/{id}'), () => ({ status: 200, body: null, headers: { 'Upload-Offset': '42' } })),
  route(declare('upload.options', 'OPTIONS', '/app/v1/uploads', { status: 204 }), () => ({
    body: undefined,
    headers: { 'Tus-Version': '1.0.0' },
  })),
  route(declare('note.read', 'GET', '/app/v1/notes/{id}'), ({ params }) => ({ body: params })),
  route(declare('note.live', 'GET', '/app/v1/notes/{id}/live', { stream: true }), () => {
    throw new Error('a HEAD request must not open the stream');
  }),
  route(declare('note.write', 'POST', '/app/v1/notes', { body: text, status: 201 }), ({ body }) => ({ body })),
  route(declare('note.bulk', 'POST', '/app/v1/notes/bulk', { body: text, bodyLimit: 3_000_000 }), ({ body }) => ({
    body: { length: (body as { text: string }).text.length },
  })),
  route(declare('door.open', 'POST', '/app/v1/door', { rate: 'sign-in', status: 204 }), () => ({ body: undefined })),
  route(declare('fault.unknown', 'GET', '/app/v1/fault'), () => {
    throw new Error('the password is orchard-in-bloom');
  }),
  route(declare('fault.known', 'GET', '/app/v1/refusal'), () => {
    throw new Problem('busy', 'Token mtok-0123456789abcdefghjkmnpqrs-0a1b2c is in use.', { retryAfterS: 7 });
  }),
];

beforeAll(async () => {
  const ports = emptyPorts();
  ports.recordCall = (call, status, _, bytes) =>
    recorded.push({ operation: call.operation.id, status, bytes, problem: call.problem?.problem });
  let count = 0;
  const parts = {
    log: pino({}, { write: (line: string) => void (logged += line) }),
    now: () => Date.UTC(2026, 5, 1) + count++,
    random: (bytes: number) => Buffer.alloc(bytes, count++),
    answers: new AnswerLedger(),
    directory: { remembered: () => undefined, find: () => Promise.reject(new Problem('key-missing')) },
    address: () => 'https://orchard.quillfell.example',
    ports,
  } as unknown as Platform;
  const rates = new Rates({ perAddress: 10_000, perKey: 10_000, signInsPerAddress: 3, syncsPerKey: 10_000 });
  const app = express();
  app.use(serveRoutes(parts, routes, rates));
  app.use(serveUnknown(parts, '/app/v1', routes, rates));
  server = createServer(app).listen(0, '127.0.0.1');
  await new Promise((resolve) => server.once('listening', resolve));
  address = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
});
afterAll(() => server.close());
beforeEach(() => {
  recorded = [];
  logged = '';
});

const call = (method: string, path: string, body?: unknown, headers: Record<string, string> = {}) =>
  fetch(address + path, {
    method,
    headers: { ...(body === undefined ? {} : { 'content-type': 'application/json' }), ...headers },
    ...(body === undefined ? {} : { body: typeof body === 'string' ? body : JSON.stringify(body) }),
  });

describe('a path', () => {
  it.each([
    ['/app/v1/tree/huts', 'huts'],
    ['/app/v1/tree/huts/north/fellgate', 'huts/north/fellgate'],
    ['/app/v1/tree/h%C3%BCtte/c%20d', 'hütte/c d'],
  ])('%s ends in segments, each decoded', async (path, segments) =>
    expect(await (await call('GET', path)).json()).toEqual({ path: segments }),
  );

  it('needs one segment at least, and is a matter of case', async () => {
    expect((await call('GET', '/app/v1/tree/')).status).toBe(404);
    expect((await call('GET', '/app/v1/Notes/1')).status).toBe(404);
  });
});

describe('a method', () => {
  it('HEAD can be declared on its own, and answers headers alone', async () => {
    const answer = await call('HEAD', '/app/v1/uploads/7');
    expect([answer.status, answer.headers.get('upload-offset'), await answer.text()]).toEqual([200, '42', '']);
    expect(recorded).toMatchObject([{ operation: 'upload.state', status: 200 }]);
  });

  it('OPTIONS can be declared on its own', async () => {
    const answer = await call('OPTIONS', '/app/v1/uploads');
    expect([answer.status, answer.headers.get('tus-version')]).toEqual([204, '1.0.0']);
  });

  it('HEAD on what GET reads has its headers and no body', async () => {
    const [get, head] = [await call('GET', '/app/v1/notes/7'), await call('HEAD', '/app/v1/notes/7')];
    expect(head.headers.get('content-length')).toBe(String((await get.text()).length));
    expect(await head.text()).toBe('');
  });

  it('HEAD on a stream does not open it', async () => expect((await call('HEAD', '/app/v1/notes/7/live')).status).toBe(200));

  it('that a path does not have is refused with those it has', async () => {
    const answer = await call('DELETE', '/app/v1/notes/7');
    expect([answer.status, answer.headers.get('allow')]).toEqual([405, 'GET, HEAD']);
    expect(await answer.json()).toMatchObject({ detail: 'DELETE /app/v1/notes/7: this address allows GET, HEAD.' });
    expect(recorded).toMatchObject([{ operation: 'unknown', status: 405, problem: 'method-not-allowed' }]);
  });

  it('on no path of ours is answered with where the calls are', async () => {
    expect(await (await call('GET', '/app/v1/weather')).json()).toMatchObject({
      status: 404,
      detail: 'GET /app/v1/weather is not a call of this service. See https://orchard.quillfell.example/docs.',
    });
  });
});

describe('a body', () => {
  it('is checked against the declaration, with every field that does not fit', async () => {
    const answer = await call('POST', '/app/v1/notes', { text: 5 });
    expect(answer.status).toBe(422);
    expect((await answer.json()).fields).toEqual([{ path: 'body.text', problem: 'Must be text; got 5.', expected: 'text' }]);
  });

  it('may have 1 MB, or what the operation declares', async () => {
    const large = { text: 'x'.repeat(2_000_000) };
    expect((await call('POST', '/app/v1/notes', large)).status).toBe(413);
    expect(await (await call('POST', '/app/v1/notes/bulk', large)).json()).toEqual({ length: 2_000_000 });
    expect((await call('POST', '/app/v1/notes/bulk', { text: 'x'.repeat(3_100_000) })).status).toBe(413);
  });

  it('that is refused leaves the connection fit for the next call', async () => {
    const { port } = server.address() as AddressInfo;
    const { Agent } = await import('node:http');
    const agent = new Agent({ keepAlive: true, maxSockets: 1 });
    const ask = (method: string, path: string, body = '') =>
      new Promise<number>((resolve, reject) => {
        const asked = send({ port, host: '127.0.0.1', agent, method, path, headers: { 'content-type': 'application/json' } }, (answer) =>
          answer.resume().once('end', () => resolve(answer.statusCode ?? 0)),
        );
        asked.once('error', reject).end(body);
      });
    expect(await ask('POST', '/app/v1/weather', JSON.stringify({ text: 'x'.repeat(100_000) }))).toBe(404);
    expect(await ask('GET', '/app/v1/notes/8')).toBe(200);
    agent.destroy();
  });

  it.each([
    ['{"text":', 400, 'malformed-json'],
    ['', 422, 'invalid-input'],
    ['[]', 422, 'invalid-input'],
  ])('%j is answered %i', async (body, status, problem) => {
    const answer = await call('POST', '/app/v1/notes', body, { 'content-type': 'application/json' });
    expect([answer.status, (await answer.json()).type.split('/').pop()]).toEqual([status, problem]);
  });
});

it('an operation of the class sign-in has the lower limit, others have not', async () => {
  const statuses = [];
  for (let i = 0; i < 5; i++) statuses.push((await call('POST', '/app/v1/door')).status);
  expect(statuses).toEqual([204, 204, 204, 429, 429]);
  const refused = await call('POST', '/app/v1/door');
  expect(Number(refused.headers.get('retry-after'))).toBeGreaterThan(0);
  expect((await refused.json()).detail).toMatch(/^More than 3 sign-ins a minute from your address\. Wait \d+ s\.$/);
  expect((await call('GET', '/app/v1/notes/7')).status).toBe(200);
});

describe('an error', () => {
  it('that nobody foresaw tells nothing of itself, and is in the log with the request’s id', async () => {
    const answer = await call('GET', '/app/v1/fault');
    const said = await answer.text();
    expect(answer.status).toBe(500);
    expect(said).not.toContain('orchard-in-bloom');
    expect(logged).toContain(answer.headers.get('orchard-request'));
    expect(recorded).toMatchObject([{ status: 500, problem: 'unexpected' }]);
  });

  it('of the catalogue has its status, Retry-After, the id, and no secret', async () => {
    const answer = await call('GET', '/app/v1/refusal');
    expect([answer.status, answer.headers.get('retry-after'), answer.headers.get('content-type')]).toEqual([
      503,
      '7',
      'application/problem+json; charset=utf-8',
    ]);
    const document = await answer.json();
    expect(document).toMatchObject({ request: answer.headers.get('orchard-request'), status: 503 });
    expect(document.detail).not.toContain('mtok-0123');
  });
});

it('each call is recorded once, with the bytes of its answer', async () => {
  const said = await (await call('GET', '/app/v1/notes/fellgate')).text();
  expect(recorded).toEqual([{ operation: 'note.read', status: 200, bytes: said.length, problem: undefined }]);
});

it('a trace goes on through the call', async () => {
  const answer = await call('GET', '/app/v1/notes/7', undefined, {
    traceparent: '00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01',
  });
  expect(answer.headers.get('traceparent')).toMatch(/^00-0af7651916cd43dd8448eb211c80319c-[0-9a-f]{16}-01$/);
  expect(answer.headers.get('traceparent')).not.toContain('b7ad6b7169203331');
});
