/** What the service logs at its most talkative holds no secret, whatever is sent to it, well or badly. */
import { Writable } from 'node:stream';
import { createHttpClient, operations, SCOPES } from '@orchard/contract';
import pino from 'pino';
import { expect, inject, it } from 'vitest';
import { readConfig } from '../src/platform/config.js';
import { startService } from '../src/service.js';
import { scratchDirectory } from './scratch.js';
import { callApp, memberClient, OWNER, PASSWORD } from './support.js';

it('names no key, token, password or code', async () => {
  let logged = '';
  const into = new Writable({
    write: (chunk, _encoding, done) => {
      logged += chunk;
      done();
    },
  });
  const url = new URL(inject('databaseUrl'));
  url.pathname = `/test_logs_${Math.random().toString(36).slice(2, 8)}`;
  const secretKey = 'ab'.repeat(32);
  const config = readConfig({
    ORCHARD_PORT: '0',
    ORCHARD_DATA: scratchDirectory('logs'),
    ORCHARD_DATABASE_URL: url.toString(),
    ORCHARD_SECRET_KEY: secretKey,
  });
  const service = await startService(config, pino({ level: 'trace' }, into));
  const { address } = service;
  const anyone = createHttpClient({ address });
  const setup = new URL(service.setupAddress as string).searchParams.get('token') as string;
  await anyone.call(operations.members.setUp, { body: { token: setup, ...OWNER } });
  const owner = await memberClient(address, OWNER);
  await owner.call(operations.apps.create, { body: { name: 'hiker' } });
  const params = { app: 'hiker', environment: 'dev' };
  const client = await owner.call(operations.clients.create, { params, body: { name: 'ios', kind: 'ios' } });
  await owner.call(operations.clients.create, { params, body: { name: 'office', kind: 'server' } });
  const key = await owner.call(operations.clients.createKey, {
    params: { ...params, client: 'office' },
    body: { name: 'k', scopes: [...SCOPES] },
  });
  const automation = await owner.call(operations.tokens.create, {
    body: { name: 'ci', roles: [{ app: 'hiker', role: 'viewer' }], days: 1 },
  });
  const arrival = await owner.call(operations.arrivals.begin, {});
  await owner.call(operations.functions.putSecret, { params: { ...params, secret: 'heron' }, body: { value: 'heron-in-the-reeds' } });
  const clientKey = client.keys[0]?.key as string;
  const user = await callApp(address, 'POST', '/users', { key: clientKey, body: { email: 'runa@hikers.example', password: PASSWORD } });
  const secrets = {
    'the secret key': secretKey,
    'the token of the set-up': setup,
    'a member’s password': OWNER.password,
    'a user’s password': PASSWORD,
    'a client key': clientKey,
    'a server key': key.key as string,
    'an automation token': automation.token,
    'the ticket of a move': arrival.ticket,
    'a secret of functions': 'heron-in-the-reeds',
    'an access token': user.body.accessToken as string,
    'a refresh token': user.body.refreshToken as string,
    'the password of the database': url.password,
  };
  // Each where it does not belong, in calls that fail.
  for (const secret of Object.values(secrets)) {
    await fetch(`${address}/app/v1/data/huts?filter=${encodeURIComponent(`name = '${secret}'`)}`, { headers: { 'orchard-key': secret } });
    await fetch(`${address}/manage/v1/apps/${encodeURIComponent(secret)}`, { headers: { authorization: `Bearer ${secret}` } });
    await callApp(address, 'POST', '/sessions', { key: clientKey, body: { email: 'runa@hikers.example', password: `${secret}!` } });
    await callApp(address, 'PUT', '/data/huts/x', { key: key.key as string, body: { name: { nested: secret }, beds: 'many' } });
  }
  await service.stop();
  expect(logged).toContain('the service is ready');
  expect(Object.entries(secrets).flatMap(([name, secret]) => (logged.includes(secret) ? [name] : []))).toEqual([]);
});
