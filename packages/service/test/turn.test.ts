/** Servers for calls between people: credentials that a real TURN server accepts, for as long as they are valid. */
import { createHmac } from 'node:crypto';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { credentialsOf } from '../src/messages/turn/credentials.js';
import { tryAddress } from '../src/messages/turn/trial.js';
import { freePort } from './ports.js';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';
import { SECRET, startTurnServer } from './turnServer.js';

let test: TestService;
let app: TestApp;
let runa: { token: string; id: string };
let server: { port: number; stop: () => Promise<unknown> };
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'hiker');
  runa = await signUp(test, app.dev.clientKey, 'runa');
  server = await startTurnServer();
});
afterAll(async () => {
  await server?.stop();
  await test?.stop();
});

const change = (body: object) => test.owner.call(operations.turn.change, { params: app.dev.params, body });
const trial = async () => (await test.owner.call(operations.turn.trial, { params: app.dev.params })).items;
const asked = () => test.app('POST', '/ice-servers', { key: app.dev.clientKey, token: runa.token });
const turnAt = (port: number, more = '') => `turn:127.0.0.1:${port}${more}`;

describe('servers of calls between people', () => {
  it('are none until the team names some', async () => {
    expect((await asked()).body).toEqual({ iceServers: [], expiresAt: null });
    expect(await test.owner.call(operations.turn.settings, { params: app.dev.params })).toMatchObject({ addresses: [], hasSecret: false });
  });

  it('come with credentials that say until when, and that a TURN server accepts over UDP and TCP', async () => {
    const addresses = [turnAt(server.port), turnAt(server.port, '?transport=tcp'), `stun:127.0.0.1:${server.port}`];
    const settings = await change({ addresses, secret: SECRET, minutes: 10 });
    expect(settings).toEqual({ addresses, minutes: 10, who: expect.any(String), hasSecret: true });
    const { iceServers, expiresAt } = (await asked()).body;
    expect(iceServers).toEqual([
      { urls: [addresses[2]] },
      { urls: addresses.slice(0, 2), username: expect.any(String), credential: expect.any(String) },
    ]);
    const { username, credential } = iceServers[1];
    expect(username).toBe(`${Math.floor(Date.parse(expiresAt) / 1000)}:${runa.id}`);
    expect(credential).toBe(createHmac('sha1', SECRET).update(username).digest('base64'));
    expect((await tryAddress(addresses[0] as string, { username, credential })).works).toBe(true);
    expect(await trial()).toEqual([
      {
        address: addresses[0],
        works: true,
        durationMs: expect.any(Number),
        relayed: expect.stringMatching(/^127\.0\.0\.1:/),
        detail: expect.stringContaining('relays from'),
      },
      expect.objectContaining({ address: addresses[1], works: true, relayed: expect.any(String) }),
      expect.objectContaining({
        address: addresses[2],
        works: true,
        relayed: null,
        detail: expect.stringContaining('sees this service at 127.0.0.1:'),
      }),
    ]);
  });

  it('refuse credentials that have run out', async () => {
    const old = credentialsOf(SECRET, runa.id, new Date(Date.now() - 60_000));
    expect(await tryAddress(turnAt(server.port), old)).toMatchObject({
      works: false,
      detail: expect.stringContaining('does not accept the credentials'),
    });
  });

  it('are tried as a phone would, and each fault is told apart', async () => {
    const closed = await freePort();
    await change({
      addresses: [turnAt(server.port), turnAt(closed, '?transport=tcp'), 'turn:nowhere.quillfell.example'],
      secret: 'of another server',
    });
    expect((await trial()).map(({ works, detail }) => [works, detail])).toEqual([
      [false, expect.stringContaining('its secret is another one')],
      [false, `Nothing listens on port ${closed} of 127.0.0.1 over TCP.`],
      [false, expect.stringContaining('nowhere.quillfell.example')],
    ]);
    await change({ secret: null });
    expect((await trial())[0]).toMatchObject({ works: false, detail: expect.stringContaining('No secret is stored') });
    expect((await asked()).body).toEqual({ iceServers: [], expiresAt: null });
  });

  it('go to those whom the rule names, and neither secret nor wrong addresses are kept or shown', async () => {
    await change({ addresses: [turnAt(server.port)], secret: SECRET, who: "me('id') = 'nobody'" });
    expect([(await asked()).status, (await asked()).body.type]).toEqual([403, expect.stringContaining('access-refused')]);
    expect((await test.app('POST', '/ice-servers', { key: app.dev.clientKey })).status).toBe(401);
    for (const body of [{ addresses: ['http://turn.quillfell.example'] }, { addresses: ['turn:'] }, { minutes: 0 }])
      await expect(change(body)).rejects.toMatchObject({ problem: 'invalid-input' });
    await expect(change({ who: 'me(' })).rejects.toMatchObject({ problem: 'malformed-filter' });
    const { items } = await test.owner.call(operations.audit.list, { query: { filter: "action = 'turn.change'" } });
    expect(items.length).toBeGreaterThan(0);
    expect(JSON.stringify(items)).not.toContain(SECRET);
  });
});
