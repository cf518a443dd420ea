/** Cairn: a push network that knows its senders by their certificates, over HTTP/2. */
import { connect, type ClientHttp2Session } from 'node:http2';
import { afterAll, afterEach, beforeAll, describe, expect, inject, it } from 'vitest';
import { clientCertificate, type Simulators, startSimulators } from '../src/index.js';

let simulators: Simulators;
const APP = 'example.quillfell.hiker';
const sessions: ClientHttp2Session[] = [];

beforeAll(async () => {
  simulators = await startSimulators({ port: 0, authority: inject('authority') });
});
afterAll(() => simulators.stop());
afterEach(() => {
  simulators.cairn.faults.set({ mode: 'none' });
  for (const session of sessions.splice(0)) session.destroy();
});

function open(certificate: { packageIdentifier?: string; stage?: 'trial' | 'live' } | null = {}): ClientHttp2Session {
  const { cairn, authority } = simulators;
  const pfx = certificate && clientCertificate(authority, { packageIdentifier: APP, stage: 'trial', password: 'larch', ...certificate });
  const session = connect(cairn.address, { ca: authority.certificate, ...(pfx ? { pfx, passphrase: 'larch' } : {}) });
  session.on('error', () => undefined);
  sessions.push(session);
  return session;
}

type Answer = { status: number; fault?: string; retryAfter?: string };
function deliver(
  session: ClientHttp2Session,
  token: string,
  body: unknown = { show: { head: 'Ridge closed' } },
  headers: Record<string, string> = {},
): Promise<Answer> {
  return new Promise((resolve, reject) => {
    const request = session.request({ ':method': 'POST', ':path': `/deliver/${token}`, ...headers });
    let text = '';
    let answer: Answer = { status: 0 };
    request.on('response', (head) => {
      answer = { status: Number(head[':status']), ...(head['retry-after'] ? { retryAfter: String(head['retry-after']) } : {}) };
    });
    request.on('data', (chunk) => (text += chunk));
    request.on('end', () => resolve({ ...answer, ...(text ? { fault: JSON.parse(text).fault } : {}) }));
    request.on('error', reject);
    request.end(typeof body === 'string' ? body : JSON.stringify(body));
  });
}
const phone = (stage: 'trial' | 'live' = 'trial', packageIdentifier = APP) => simulators.cairn.register(packageIdentifier, stage);

describe('a message', () => {
  it('reaches a phone that listens, with what it says', async () => {
    const token = phone();
    const received: unknown[] = [];
    simulators.cairn.listen(token, (message) => received.push(message));
    expect(await deliver(open(), token)).toEqual({ status: 200 });
    expect(received).toEqual([{ show: { head: 'Ridge closed' } }]);
  });

  it('that comes twice with the same id is shown once', async () => {
    const token = phone();
    const received: string[] = [];
    simulators.cairn.listen(token, (_message, id) => received.push(id));
    const session = open();
    for (let n = 0; n < 2; n++) expect((await deliver(session, token, {}, { 'cairn-message': 'same-one' })).status).toBe(200);
    expect(received).toEqual(['same-one']);
  });

  it('waits for a phone that is away; a later one of the same name takes its place, and one whose time is over is not shown', async () => {
    const token = phone();
    const session = open();
    const until = String(Math.floor(Date.now() / 1000) + 60);
    const over = String(Math.floor(Date.now() / 1000) - 1);
    for (const [head, headers] of [
      ['first', { 'cairn-replaces': 'weather', 'cairn-until': until }],
      ['second', { 'cairn-replaces': 'weather', 'cairn-until': until }],
      ['too late', { 'cairn-until': over }],
      ['other', { 'cairn-until': until }],
    ] as const)
      await deliver(session, token, { show: { head } }, headers);
    const heads: unknown[] = [];
    simulators.cairn.listen(token, ({ show }) => heads.push(show?.head));
    expect(heads).toEqual(['second', 'other']);
  });
});

describe('a sender', () => {
  it('without a certificate of this network is refused', async () => {
    expect(await deliver(open(null), phone())).toEqual({ status: 403, fault: 'no certificate of this network' });
  });

  it('with the certificate of another app, or of the other stage, is refused by name', async () => {
    expect(await deliver(open({ packageIdentifier: 'example.quillfell.warden' }), phone())).toEqual({
      status: 403,
      fault: 'certificate is for example.quillfell.warden',
    });
    expect(await deliver(open(), phone('live'))).toEqual({ status: 400, fault: 'phone is live, certificate is trial' });
  });

  it('hears that a phone is unknown, that it is gone, and that a message is too large or no JSON', async () => {
    const session = open();
    const token = phone();
    expect((await deliver(session, 'ab'.repeat(32))).fault).toBe('unknown phone');
    expect((await deliver(session, token, { more: { x: 'x'.repeat(5_000) } })).status).toBe(413);
    expect((await deliver(session, token, 'not json')).fault).toBe('the body is not JSON');
    simulators.cairn.uninstall(token);
    expect(await deliver(session, token)).toEqual({ status: 410, fault: 'phone is gone' });
  });
});

describe('a fault on request', () => {
  it('throttles with the seconds to wait, and answers with the status asked for', async () => {
    const session = open();
    simulators.cairn.faults.set({ mode: 'throttle', retryAfterS: 7 });
    expect(await deliver(session, phone())).toMatchObject({ status: 429, retryAfter: '7' });
    simulators.cairn.faults.set({ mode: 'refuse', status: 503 });
    expect((await deliver(session, phone())).status).toBe(503);
  });

  it('breaks the connection in the middle of a call', async () => {
    simulators.cairn.faults.set({ mode: 'drop' });
    // Node reports a stream without a response as ended or as failed, by when the connection broke.
    expect(await deliver(open(), phone()).catch(() => ({ status: 0 }))).toEqual({ status: 0 });
  });
});

it('knows its phones again after a restart', () => {
  const token = phone('live');
  simulators.cairn.uninstall(token);
  const stored = simulators.cairn.store();
  expect(stored.find(([one]) => one === token)).toEqual([token, APP, 'live', true]);
});
