/** A service that is killed while a hook after a write runs: the hook runs again, and can tell by its key. */
import { type ChildProcess, fork } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import { createHttpClient, operations } from '@orchard/contract';
import { Offices } from '@orchard/simulators';
import { expect, it } from 'vitest';
import { scratchDirectory } from './scratch.js';
import { eventually, makeApp, OWNER } from './support.js';

const MAIN = fileURLToPath(new URL('../dist/main.js', import.meta.url));

it('runs a hook again, with the same key, when its instance was killed in the middle of it', async () => {
  const directory = scratchDirectory('killed-hook');
  const office = new Offices();
  await office.start();
  let child: ChildProcess | null = null;
  const start = (port: string) => {
    child = fork(MAIN, [], {
      env: {
        ...process.env,
        ORCHARD_PORT: port,
        ORCHARD_DATA: directory,
        ORCHARD_PUSH_ORIGINS: office.address,
        ORCHARD_LOG_LEVEL: 'fatal',
      },
      stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
    });
    return new Promise<{ address: string; setupAddress: string }>((resolve) => child?.once('message', (said) => resolve(said as never)));
  };
  const ended = () => new Promise((resolve) => child?.once('exit', resolve));
  const first = await start('0');
  const anyone = createHttpClient({ address: first.address });
  await anyone.call(operations.members.setUp, {
    body: { token: new URL(first.setupAddress).searchParams.get('token') as string, ...OWNER },
  });
  const { token } = await anyone.call(operations.members.signIn, { body: { email: OWNER.email, password: OWNER.password, as: 'token' } });
  const owner = createHttpClient({ address: first.address, headers: () => ({ authorization: `Bearer ${token}` }) });
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
  const gone = ended();
  (child as unknown as ChildProcess).kill('SIGKILL');
  await gone;
  office.fault = { mode: 'none' };
  await start(new URL(first.address).port);
  await eventually(async () => (await owner.call(operations.functions.read, at)).lastOutcome === 'answered', 40_000);
  const keys = office.calls.map(({ headers }) => headers['idempotency-key']);
  expect([keys.length, new Set(keys).size, (await owner.call(operations.functions.read, at)).waiting]).toEqual([2, 1, 0]);
  const last = ended();
  (child as unknown as ChildProcess).kill('SIGTERM');
  await last;
  await office.stop();
}, 120_000);
