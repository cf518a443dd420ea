/** Event streams over real HTTP: read as they come, and followed over broken connections. */
import { getEventListeners } from 'node:events';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { afterEach, describe, expect, it } from 'vitest';
import { followEvents, type LiveEvent, Problem, readEvents } from '../src/index.js';

let server: Server | undefined;
afterEach(() => server?.close());

/** Answers each call with the next of some answers; the last one goes on. */
async function serve(...answers: ((request: IncomingMessage, response: ServerResponse) => void)[]): Promise<string> {
  let calls = 0;
  server = createServer((request, response) => answers[Math.min(calls++, answers.length - 1)]?.(request, response)).listen(0, '127.0.0.1');
  await new Promise((resolve) => server?.once('listening', resolve));
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
}
const streaming = (response: ServerResponse) => response.writeHead(200, { 'content-type': 'text/event-stream' });

describe('a stream', () => {
  it('is read whatever pieces it comes in, with characters of several bytes cut between them', async () => {
    const bytes = Buffer.from('id: 7\nevent: changed\ndata: {"name":"Fjällhütte 🏔"}\n\n: a comment\n\ndata: 1\n\n');
    const address = await serve((_, response) => {
      streaming(response);
      let at = 0;
      const next = () => (at < bytes.length ? response.write(bytes.subarray(at, ++at), () => setImmediate(next)) : response.end());
      next();
    });
    const events: LiveEvent[] = [];
    for await (const event of readEvents(await fetch(address))) events.push(event);
    expect(events).toEqual([
      { event: 'changed', id: '7', data: { name: 'Fjällhütte 🏔' } },
      { event: 'message', id: '', data: 1 },
    ]);
  });

  it('is let go by a reader that has enough', async () => {
    let closed = false;
    const address = await serve((request, response) => {
      streaming(response).write('data: 1\n\ndata: 2\n\n');
      request.socket.once('close', () => {
        closed = true;
      });
    });
    for await (const event of readEvents(await fetch(address))) if (event.data === 1) break;
    await expect.poll(() => closed).toBe(true);
  });
});

describe('following a stream', () => {
  it('goes on after the last event when the connection breaks, and says so', async () => {
    const resumed: (string | undefined)[] = [];
    const address = await serve(
      ({ headers }, response) => {
        resumed.push(headers['last-event-id'] as string | undefined);
        streaming(response).write('id: 1\ndata: "a"\n\nid: 2\ndata: "b"\n\n', () => response.destroy());
      },
      ({ headers }, response) => {
        resumed.push(headers['last-event-id'] as string | undefined);
        streaming(response).write('id: 3\ndata: "c"\n\n');
      },
    );
    const stop = new AbortController();
    const events: unknown[] = [];
    const states: string[] = [];
    await followEvents({
      open: (headers, signal) => fetch(address, { headers, signal }),
      onEvent: ({ data }) => {
        events.push(data);
        if (data === 'c') stop.abort();
      },
      onState: (state) => states.push(state),
      signal: stop.signal,
    });
    expect(events).toEqual(['a', 'b', 'c']);
    expect(resumed).toEqual([undefined, '2']);
    expect(states).toEqual(['open', 'waiting', 'open']);
  });

  it('moves its place by an event without data, without showing one', async () => {
    const resumed: (string | undefined)[] = [];
    const stop = new AbortController();
    const address = await serve(
      (_, response) => void streaming(response).end('id: 41\ndata:\n\n'),
      ({ headers }, response) => {
        resumed.push(headers['last-event-id'] as string | undefined);
        stop.abort();
        response.end();
      },
    );
    const events: unknown[] = [];
    await followEvents({
      open: (headers, signal) => fetch(address, { headers, signal }),
      onEvent: (event) => events.push(event),
      signal: stop.signal,
    });
    expect([events, resumed]).toEqual([[], ['41']]);
  });

  it('connects again when nothing is heard, though the connection stands', async () => {
    const stop = new AbortController();
    const resumed: (string | undefined)[] = [];
    const address = await serve(
      (_, response) => void streaming(response).write('id: 5\ndata: "a"\n\n'),
      ({ headers }, response) => {
        resumed.push(headers['last-event-id'] as string | undefined);
        streaming(response).write('id: 6\ndata: "b"\n\n');
      },
    );
    const events: unknown[] = [];
    await followEvents({
      open: (headers, signal) => fetch(address, { headers, signal }),
      onEvent: ({ data }) => {
        events.push(data);
        if (data === 'b') stop.abort();
      },
      signal: stop.signal,
      silentMs: 100,
    });
    expect([events, resumed]).toEqual([['a', 'b'], ['5']]);
  });

  it('keeps nothing of earlier connections, however often it reconnects', async () => {
    const stop = new AbortController();
    let calls = 0;
    await followEvents({
      open: () => {
        if (++calls === 3) stop.abort();
        return Promise.reject(new TypeError('no network'));
      },
      onEvent: () => undefined,
      signal: stop.signal,
    });
    expect(getEventListeners(stop.signal, 'abort')).toEqual([]);
  });

  it('ends when the service refuses the stream itself', async () => {
    await expect(
      followEvents({
        open: () => Promise.reject(new Problem('access-refused', 'The read rule of `huts` refuses this.')),
        onEvent: () => undefined,
        signal: new AbortController().signal,
      }),
    ).rejects.toMatchObject({ problem: 'access-refused' });
  });

  it.each(['rate-exceeded', 'shutting-down'] as const)('tries again after %s', async (problem) => {
    const stop = new AbortController();
    let calls = 0;
    await followEvents({
      open: () => {
        if (++calls === 2) stop.abort();
        return Promise.reject(new Problem(problem, 'Wait.'));
      },
      onEvent: () => undefined,
      signal: stop.signal,
    });
    expect(calls).toBe(2);
  });

  it('waits no longer once it is stopped', async () => {
    const stop = new AbortController();
    const began = Date.now();
    const following = followEvents({
      open: () => Promise.reject(new TypeError('no network')),
      onEvent: () => undefined,
      onState: () => setTimeout(() => stop.abort(), 10),
      signal: stop.signal,
    });
    await following;
    expect(stop.signal.aborted).toBe(true);
    expect(Date.now() - began).toBeLessThan(10_000);
  });
});
