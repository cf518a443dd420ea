/** Whether a device can be reached is said twice, in SQL for many and in code for one: both must say the same. */
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { gatewayFor, gatewaySql, type PushWays, type Reached, whyNot, whySql } from '../src/messages/devices/pushWays.js';
import { makeApp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
});
afterAll(() => test.stop());

type Row = Reached & { id: string };
function* everyDevice(): Generator<Row> {
  let i = 0;
  for (const client of ['hiker-ios', 'hiker-android', null])
    for (const permission of ['granted', 'denied', 'unasked'])
      for (const [endpoint, token] of [
        [null, null],
        ['https://push.example/x', null],
        [null, 'abcdef'],
        ['https://push.example/x', 'abcdef'],
      ] as const)
        for (const tokenStage of token ? [null, 'trial', 'live'] : [null])
          for (const retiredAt of [null, new Date(0)])
            yield { id: `device-${String(i++).padStart(4, '0')}`, client, permission, endpoint, token, tokenStage, retiredAt };
}
const WAYS: [string, PushWays][] = [
  ['no gateways', []],
  ['one of the live stage', [{ name: 'cairn', client: 'hiker-ios', stage: 'live' }]],
  [
    'both stages of one client, another client too',
    [
      { name: 'cairn', client: 'hiker-ios', stage: 'live' },
      { name: 'cairn-trial', client: 'hiker-ios', stage: 'trial' },
      { name: 'tarn', client: 'hiker-android', stage: 'trial' },
    ],
  ],
];

it.each(WAYS)('with %s, for every kind of device', async (_name, ways) => {
  const {
    db: { name: database },
  } = await test.service.parts.directory.environment(app.name, 'dev');
  const devices = [...everyDevice()];
  const now = new Date();
  await test.service.parts.database.run(`DELETE FROM \`${database}\`._devices`);
  await test.service.parts.database.run(
    `INSERT INTO \`${database}\`._devices (id, client, permission, endpoint, token, tokenStage, retiredAt, platform, appVersion, os, locale, timeZone, createdAt, updatedAt, lastSeenAt) VALUES ?`,
    [devices.map((device) => [...Object.values(device).slice(0, 7), 'ios', '1', 'iOS 19', 'en', 'UTC', now, now, now])],
  );
  const said = await test.service.parts.database.runRows<{ id: string; gateway: string | null; why: string | null }>(
    `SELECT v.id, ${gatewaySql(ways)} AS gateway, ${whySql(ways, false)} AS why FROM \`${database}\`._devices v ORDER BY v.id`,
  );
  expect(said).toEqual(devices.map((device) => ({ id: device.id, gateway: gatewayFor(device, ways), why: whyNot(device, ways) })));
  const { items } = await test.owner.call(operations.devices.list, { params: app.dev.params, query: { limit: 200 } });
  expect(items.every(({ reachable, reach }) => reachable === (reach === 'Registered, allowed and subscribed.'))).toBe(true);
});
