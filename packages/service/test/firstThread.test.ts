import { operations } from '@orchard/contract';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { eventually, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
});
afterAll(() => test.stop());

it('leads from an empty installation to a phone that shows a notification and a sum that counts the calls', async () => {
  const key = app.dev.clientKey;
  const runa = await signUp(test, key, 'runa');
  const stored = await test.app('POST', '/data/huts', { key, token: runa.token, body: { name: 'Cold Tarn', bunks: 24 } });
  expect(stored.status).toBe(201);

  const person = { name: 'Kenji Moor', email: 'kenji@hikers.example', password: 'ridge-and-river' };
  await test.simulators.connect({ address: test.address, clientKey: key }, [
    {
      name: 'Kenji’s phone',
      platform: 'ios',
      model: 'Tern mini',
      os: 'iOS 19.2',
      appVersion: '2.4.1',
      locale: 'ja-JP',
      timeZone: 'Asia/Tokyo',
      person,
    },
  ]);
  const phone = test.simulators.handsets()[0];
  await phone?.signIn();
  await phone?.allow();
  expect(phone?.state.registration).toMatchObject({ ok: true });

  const content = {
    title: 'Ridge closed',
    body: 'Storm from noon.',
    badge: 3,
    sound: 'bell',
    link: '/huts/hollow-col',
    data: { hut: 'hollow-col', level: 2 },
  };
  const sent = await test.app('POST', '/notifications', { key: app.dev.serverKey, body: { ...content, audience: { everyone: true } } });
  expect(sent.status).toBe(202);
  const shown = await eventually(() => phone?.state.received[0]);
  expect(shown).toMatchObject({ ...content, notification: sent.body.id });
  expect(phone?.state.badge).toBe(3);

  const through = await eventually(async () => {
    const { body } = await test.app('GET', `/notifications/${sent.body.id}`, { key: app.dev.serverKey });
    return body.deliveries.queued === 0 && body;
  });
  expect(through.deliveries).toMatchObject({ total: 1, queued: 0, failed: 0, skipped: 0 });
  expect(through.deliveries.accepted + through.deliveries.arrived).toBe(1);

  const usage = await eventually(async () => {
    const read = await test.owner.call(operations.telemetry.usage, { params: app.dev.params });
    return read.routes.some(({ route }) => route === '/app/v1/notifications/{id}') && read;
  });
  expect(usage.routes.find(({ route }) => route === '/app/v1/data/{collection}')).toMatchObject({
    method: 'POST',
    calls: 1,
    statuses: { 201: 1 },
  });
  expect(usage.total.calls).toBe(usage.steps.reduce((sum, { calls }) => sum + calls, 0));
});
