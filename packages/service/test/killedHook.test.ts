/** A service that is killed while a hook after a write runs: the hook runs again, and can tell by its key. */
import { operations } from '@orchard/contract';
import { Offices } from '@orchard/simulators';
import { expect, it } from 'vitest';
import { startKillable } from './killable.js';
import { eventually, makeApp } from './support.js';

it('runs a hook again, with the same key, when its instance was killed in the middle of it', async () => {
  const office = new Offices();
  await office.start();
  const service = await startKillable('killed-hook', { ORCHARD_PUSH_ORIGINS: office.address });
  const { owner } = service;
  const { dev } = await makeApp({ owner }, 'killed');
  const at = { params: { ...dev.params, name: 'charge' } };
  await owner.call(operations.collections.create, {
    params: dev.params,
    body: { name: 'bookings', fields: [{ name: 'party', type: 'integer' }] },
  });
  await owner.call(operations.upstreams.put, {
    params: { ...dev.params, upstream: 'office' },
    body: { address: `${office.address}/weather`, tries: 1 },
  });
  await owner.call(operations.functions.put, {
    ...at,
    body: {
      kind: 'hook',
      on: { moment: 'after', collection: 'bookings', actions: ['create'] },
      source: `export default (async ({ key }, { upstreams }) => {
        const { status } = await upstreams('office').call('/', { headers: { 'idempotency-key': key, 'x-weather-key': 'larch-and-lichen' } });
        if (status !== 200) throw new Error('not yet');
      }) as AfterWrite<'bookings'>;`,
    },
  });
  office.fault = { mode: 'hang' };
  await owner.call(operations.managedRecords.create, { params: { ...dev.params, collection: 'bookings' }, body: { party: 2 } });
  await eventually(() => office.calls.length === 1);
  await service.kill();
  office.fault = { mode: 'none' };
  await service.restart();
  await eventually(async () => (await owner.call(operations.functions.read, at)).lastOutcome === 'answered', 40_000);
  const keys = office.calls.map(({ headers }) => headers['idempotency-key']);
  expect([keys.length, new Set(keys).size, (await owner.call(operations.functions.read, at)).waiting]).toEqual([2, 1, 0]);
  await service.stop();
  await office.stop();
}, 120_000);
