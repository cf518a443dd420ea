/** Calls over a bad line: what is repeated, what is not, and what the app hears. */
import { createServer, type Server, type ServerResponse } from 'node:http';
import { once } from 'node:events';
import type { AddressInfo } from 'node:net';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { reasonOf } from '../src/introduction.js';
import { type CallTold, connect, Problem, Unreachable } from '../src/index.js';

type Answer = { status: number; headers?: Record<string, string>; body?: string; after?: number };
let server: Server;
let address: string;
let answers: Answer[] = [];
let heard: { method: string; url: string; headers: Record<string, unknown> }[] = [];
const problem = (status: number, name: string): Answer => ({
  status,
  headers: { 'content-type': 'application/problem+json' },
  body: JSON.stringify({ type: `/docs/problems/${name}`, title: name, status, detail: `It is ${name}.` }),
});
const fine: Answer = { status: 200, headers: { 'content-type': 'application/json' }, body: '{"items":[]}' };

beforeAll(async () => {
  server = createServer(async (request, response: ServerResponse) => {
    heard.push({ method: request.method as string, url: request.url as string, headers: request.headers });
    const { status, headers = {}, body = '', after = 0 } = answers.shift() ?? fine;
    setTimeout(() => (status === 0 ? response.destroy() : response.writeHead(status, headers).end(body)), after);
  });
  server.listen(0, '127.0.0.1');
  await once(server, 'listening');
  address = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
});
afterAll(() => void server.close());
beforeEach(() => {
  [answers, heard] = [[], []];
});
const orchard = (told?: (call: CallTold) => void) =>
  connect({ address, clientKey: 'ckey-x', introduce: false, ...(told ? { onCall: told } : {}) });
const huts = (told?: (call: CallTold) => void) => orchard(told).collection('huts');

describe('a call over a bad line', () => {
  it('that only reads is repeated until it comes through, in one trace', async () => {
    answers = [{ status: 0 }, problem(503, 'busy'), { status: 502, body: '<h1>Bad gateway</h1>' }];
    const told: CallTold[] = [];
    expect(await huts((call) => told.push(call)).list()).toEqual({ items: [] });
    expect(told.map(({ attempt, status }) => [attempt, status])).toEqual([
      [1, undefined],
      [2, 503],
      [3, 502],
      [4, 200],
    ]);
    expect(new Set(heard.map(({ headers }) => String(headers.traceparent).slice(3, 35))).size).toBe(1);
  });

  it('that stores something is repeated with one idempotency key', async () => {
    answers = [{ status: 0 }, { ...fine, status: 201, body: '{"id":"a"}' }];
    await huts().create({ name: 'Col' });
    const keys = heard.map(({ headers }) => headers['idempotency-key']);
    expect(keys).toEqual([expect.stringMatching(/^[0-9a-f-]{36}$/), keys[0]]);
  });

  it('that would be done twice is not repeated', async () => {
    answers = [{ status: 0 }];
    await expect(orchard().signIn('runa@hikers.example', 'ridge-and-river')).rejects.toBeInstanceOf(Unreachable);
    expect(heard).toHaveLength(1);
  });

  it('that is refused is told as a problem, at once', async () => {
    answers = [problem(403, 'access-refused')];
    await expect(huts().list()).rejects.toMatchObject({ problem: 'access-refused', status: 403, detail: 'It is access-refused.' });
    expect(heard).toHaveLength(1);
  });

  it('waits as long as the service says, and not for ever', async () => {
    answers = [
      { ...problem(429, 'rate-exceeded'), headers: { 'retry-after': '1' } },
      fine,
      { ...problem(429, 'rate-exceeded'), headers: { 'retry-after': '600' } },
    ];
    const started = Date.now();
    await huts().list();
    expect(Date.now() - started).toBeGreaterThanOrEqual(990);
    await expect(huts().list()).rejects.toBeInstanceOf(Problem);
  });

  it('that a page of a network’s sign-in answers is not taken for an answer', async () => {
    answers = [{ status: 200, headers: { 'content-type': 'text/html' }, body: '<html>Welcome to the lodge' }];
    await expect(huts().list()).rejects.toMatchObject({
      name: 'Unreachable',
      why: 'other-answer',
      message: expect.stringContaining('Welcome to the lodge'),
    });
  });

  it('ends with its time limit, and with the signal of the app', async () => {
    answers = [
      { ...fine, after: 500 },
      { ...fine, after: 500 },
    ];
    await expect(huts().list({}, { timeLimitMs: 50 })).rejects.toMatchObject({ why: 'time-limit' });
    await expect(huts().list({}, { signal: AbortSignal.timeout(50) })).rejects.toThrow('timeout');
  });
});

describe('why nothing answers', () => {
  const silent = new Unreachable('network', 'cannot be reached');
  const page = { origin: 'https://hiker.quillfell.example', protocol: 'https:' };
  it.each([
    [
      'a problem of the service',
      () => new Problem({ type: '/x', title: '', status: 403, detail: 'The origin is not allowed.' }),
      'The origin is not allowed.',
    ],
    ['a page of https', () => silent, 'the browser blocks it'],
  ])('is said: %s', async (_what, error, words) => expect(await reasonOf(error(), 'http://192.0.2.1', page)).toContain(words));

  it('is said: the service answers, and the browser hides what it said', async () => {
    answers = [{ status: 200, body: 'ok' }];
    expect(await reasonOf(silent, address, { origin: 'http://localhost:5180', protocol: 'http:' })).toContain(
      'to the origin http://localhost:5180',
    );
  });

  it('is said: nothing is there', async () =>
    expect(await reasonOf(silent, 'http://127.0.0.1:9', { origin: 'http://localhost', protocol: 'http:' })).toContain('Nothing answers'));
});
