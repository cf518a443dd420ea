/** A large send while the service, MariaDB and the networks are killed at random. ORCHARD_HAVOC_DEVICES sets how large. */
import { type ChildProcess, fork } from 'node:child_process';
import { createECDH, randomBytes } from 'node:crypto';
import { readFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { fileURLToPath } from 'node:url';
import { createHttpClient, operations } from '@orchard/contract';
import { readMapping, startSimulators } from '@orchard/simulators';
import mysql from 'mysql2/promise';
import pino from 'pino';
import { expect, inject, it } from 'vitest';
import { startService } from '../src/service.js';
import { scratchDirectory } from './scratch.js';
import { eventually, makeApp, OWNER, startTestService } from './support.js';

const DEVICES = Number(process.env.ORCHARD_HAVOC_DEVICES ?? 3000);
const MAIN = fileURLToPath(new URL('../dist/main.js', import.meta.url));
/** Most messages in flight at a kill whose answers are lost on the wire, while the network is quick. */
const ON_THE_WIRE = 10;
type Simulators = Awaited<ReturnType<typeof startSimulators>>;
const COLUMNS =
  'id, client, platform, appVersion, os, locale, timeZone, permission, endpoint, p256dh, auth, token, createdAt, updatedAt, lastSeenAt';

/** Half of the devices on web push, half at Tarn; counts what each shows. */
async function fill(
  connection: mysql.Connection,
  database: string,
  simulators: Simulators,
  applicationServerKey: string,
  count: number,
): Promise<Map<string, number>> {
  const shown = new Map<string, number>();
  const p256dh = createECDH('prime256v1').generateKeys('base64url');
  const auth = randomBytes(16).toString('base64url');
  const rows = Array.from({ length: count }, (_, i) => {
    const id = `phone-${String(i).padStart(6, '0')}`;
    shown.set(id, 0);
    const show = () => shown.set(id, (shown.get(id) as number) + 1);
    const now = new Date();
    const common = [id, 'hiker-ios', 'ios', '1', 'iOS 19', 'nb-NO', 'Europe/Oslo', 'granted'];
    if (i % 2) {
      const token = simulators.tarn.register('havoc');
      simulators.tarn.listen(token, show);
      return [...common, null, null, null, token, now, now, now];
    }
    const { id: subscription, endpoint } = simulators.network.subscribe(applicationServerKey);
    simulators.network.listen(subscription, show);
    return [...common, endpoint, p256dh, auth, null, now, now, now];
  });
  for (let at = 0; at < rows.length; at += 5000)
    await connection.query(`INSERT INTO \`${database}\`._devices (${COLUMNS}) VALUES ?`, [rows.slice(at, at + 5000)]);
  return shown;
}

const addTarn = (owner: ReturnType<typeof createHttpClient>, params: { app: string; environment: string }, simulators: Simulators) =>
  owner.call(operations.gateways.create, {
    params,
    body: {
      kind: 'token',
      name: 'tarn',
      stage: 'live',
      client: 'hiker-ios',
      settings: { address: simulators.tarn.address, trust: simulators.authority.certificate },
      keyFile: simulators.tarn.openAccount('havoc'),
      mapping: readMapping('tarn'),
    } as never,
  });

it(`reaches each of ${DEVICES} devices once, though service, MariaDB and networks are killed at random`, async () => {
  const directory = scratchDirectory('havoc');
  const simulators = await startSimulators({ port: 0, authority: inject('authority') });
  const running: { child: ChildProcess | null } = { child: null };
  const start = async (port: number) => {
    for (;;) {
      const started = fork(MAIN, [], {
        env: {
          ...process.env,
          ORCHARD_PORT: String(port),
          ORCHARD_DATA: directory,
          ORCHARD_PUSH_ORIGINS: simulators.address,
          ORCHARD_LOG_LEVEL: 'fatal',
          ORCHARD_KEY_RATE: '1000000',
          ORCHARD_ADDRESS_RATE: '1000000',
        },
        stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
      });
      const message = await new Promise<{ address: string; setupAddress: string } | null>((resolve) => {
        started.once('message', (said) => resolve(said as never));
        started.once('exit', () => resolve(null));
      });
      running.child = started;
      if (message) return message;
      await sleep(300);
    }
  };
  const first = await start(0);
  const { port } = new URL(first.address);
  const anyone = createHttpClient({ address: first.address });
  await anyone.call(operations.members.setUp, {
    body: { token: new URL(first.setupAddress).searchParams.get('token') as string, ...OWNER },
  });
  const { token } = await anyone.call(operations.members.signIn, { body: { email: OWNER.email, password: OWNER.password, as: 'token' } });
  const owner = createHttpClient({ address: first.address, headers: () => ({ authorization: `Bearer ${token}` }) });
  const { dev } = await makeApp({ owner }, 'havoc');
  await addTarn(owner, dev.params, simulators);
  const { port: databasePort, password } = JSON.parse(readFileSync(join(directory, 'mariadb.json'), 'utf8'));
  const connection = await mysql.createConnection({
    host: '127.0.0.1',
    port: databasePort,
    user: 'orchard',
    password,
    database: 'orchard',
  });
  connection.on('error', () => undefined);
  const [environments] = await connection.query<mysql.RowDataPacket[]>("SELECT id FROM environments WHERE app = 'havoc' AND name = 'dev'");
  const key = { 'orchard-key': dev.clientKey };
  const { applicationServerKey } = await createHttpClient({ address: first.address, headers: () => key }).call(
    operations.devices.pushKey,
    {},
  );
  const shown = await fill(connection, `orchard_${environments[0]?.id}`, simulators, applicationServerKey, DEVICES);
  await connection.end().catch(() => undefined);

  const { id } = await owner.call(operations.notifications.sendManaged, {
    params: dev.params,
    body: { title: 'Storm', audience: { everyone: true } },
  });
  const through = () => [...shown.values()].filter((times) => times > 0).length;
  let serviceKills = 0;
  const kinds = ['service', 'database', 'network', 'service', 'database', 'service'];
  for (const [i, kind] of kinds.entries()) {
    const wanted = ((i + 0.3 + Math.random() * 0.5) / (kinds.length + 1)) * DEVICES;
    await eventually(() => through() >= wanted, 120_000).catch(() => undefined);
    if (kind === 'service') {
      const gone = new Promise((resolve) => running.child?.once('exit', resolve));
      running.child?.kill('SIGKILL');
      await gone;
      serviceKills++;
      await start(Number(port));
    } else if (kind === 'database') process.kill(Number(readFileSync(join(directory, 'mariadb.pid'), 'utf8')), 'SIGKILL');
    else {
      simulators.network.setFault({ mode: 'drop', count: 40 });
      simulators.tarn.faults.set({ mode: 'drop', count: 3 });
    }
  }
  const done = await eventually(async () => {
    const sent = await owner.call(operations.notifications.readManaged, { params: { ...dev.params, id } }).catch(() => null);
    return sent?.state === 'done' && sent;
  }, 240_000);
  const { total, accepted, arrived, failed, expired, skipped, queued } = done.deliveries;
  expect({ total, sum: accepted + arrived + failed + expired + skipped + queued, queued, through: through() }).toEqual({
    total: DEVICES,
    sum: DEVICES,
    queued: 0,
    through: DEVICES,
  });
  expect(accepted).toBe(DEVICES);
  const doubled = [...shown.values()].filter((times) => times > 1).length;
  console.log(`${DEVICES} devices, ${serviceKills} kills of the service: ${doubled} shown twice`);
  expect(doubled).toBeLessThanOrEqual(serviceKills * ON_THE_WIRE);
  const ended = new Promise((resolve) => running.child?.once('exit', resolve));
  running.child?.kill('SIGTERM');
  await ended;
  await simulators.stop();
  rmSync(directory, { recursive: true, force: true });
}, 600_000);

it('is shared by two instances without doubling', async () => {
  const one = await startTestService(inject('databaseUrl'));
  const two = await startService(
    { ...one.config, dataDirectory: scratchDirectory('havoc-second'), secretKey: one.service.parts.secretKey },
    pino({ level: 'silent' }),
  );
  const { dev } = await makeApp(one, 'shared');
  await addTarn(one.owner, dev.params, one.simulators);
  const {
    db: { name: database },
  } = await one.service.parts.directory.environment('shared', 'dev');
  const { applicationServerKey } = (await one.app('GET', '/push-key', { key: dev.clientKey })).body;
  const connection = await mysql.createConnection({ uri: one.config.databaseUrl as string });
  // More than one set of deliveries, so that there is something to share.
  const count = 11_000;
  const shown = await fill(connection, database, one.simulators, applicationServerKey, count);
  const { id } = await one.owner.call(operations.notifications.sendManaged, {
    params: dev.params,
    body: { title: 'Shared', draft: true, audience: { everyone: true } },
  });
  await one.owner.call(operations.notifications.startManaged, { params: { ...dev.params, id } });
  const holders = new Set<string>();
  const done = await eventually(async () => {
    for (const { leasedBy } of await one.service.parts.database.rows<{ leasedBy: string | null }>(
      `SELECT leasedBy FROM \`${database}\`._jobs`,
    ))
      if (leasedBy) holders.add(leasedBy);
    const sent = await one.owner.call(operations.notifications.readManaged, { params: { ...dev.params, id } });
    return sent.state === 'done' && sent;
  }, 90_000);
  expect(done.deliveries).toMatchObject({ total: count, accepted: count });
  expect([...shown.values()].every((times) => times === 1)).toBe(true);
  expect(holders.size).toBe(2);
  await connection.end();
  await two.stop();
  await one.stop();
}, 120_000);
