// One instance beside two, and one database server beside a cluster of three nodes, on the same machine.
import { fork, spawn } from 'node:child_process';
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { balancerSettings, GaleraCluster } from '@orchard/simulators';
import { compare } from './measure.mjs';

function startInstance(module, env) {
  const child = fork(module, [], { env: { ...process.env, ...env }, stdio: ['ignore', 'inherit', 'inherit', 'ipc'] });
  return new Promise((resolve, reject) => {
    child.once('message', (message) => resolve({ ...message, child }));
    child.once('exit', (code) => reject(new Error(`an instance ended with ${code}`)));
  });
}
const ended = (child, signal) => {
  const gone = new Promise((resolve) => child.once('exit', resolve));
  child.kill(signal);
  return gone;
};

/** Reads and creates on a cluster of three nodes beside the same on one server. */
export async function nodes({ module, settings, data, prepare, send, service, place, rounds, count, width }) {
  const cluster = await GaleraCluster.start(join(data, 'cluster'));
  const directory = join(data, 'on-cluster');
  mkdirSync(directory);
  const other = await startInstance(module, { ...settings, ORCHARD_DATA: directory, ORCHARD_DATABASE_URL: cluster.url() });
  const there = await prepare(other);
  const at = (address, of) => {
    const headers = { 'orchard-key': of.serverKey, 'content-type': 'application/json' };
    const body = JSON.stringify({ name: 'Fellgate', region: 'north', bunks: 12 });
    return {
      create: () => send({ url: `${address}/app/v1/data/nodes`, method: 'POST', headers, body }, 201),
      read: () => send({ url: `${address}/app/v1/data/nodes/one`, headers }, 200),
      make: () => send({ url: `${address}/app/v1/data/nodes/one`, method: 'PUT', headers, body }, 201),
    };
  };
  const [ours, bare] = [at(other.address, there), at(service.address, place)];
  await Promise.all([ours.make(), bare.make()]);
  const rows = {};
  rows['create on three nodes'] = {
    ...(await compare({ rounds, count, width, ours: ours.create, bare: bare.create })),
    note: 'beside one server',
  };
  rows['read on three nodes'] = {
    ...(await compare({ rounds, count: count * 4, width, ours: ours.read, bare: bare.read })),
    note: 'beside one server',
  };
  await ended(other.child, 'SIGTERM');
  await cluster.stop();
  cluster.forget();
  return rows;
}

/** Two instances beside one, on one database; and what fails while one of them is killed behind a balancer. */
export async function instances({ module, settings, data, databaseUrl, secretKey, port, send, service, place, rounds, count, width }) {
  const directory = join(data, 'second-instance');
  mkdirSync(directory);
  const shared = { ...settings, ORCHARD_DATA: directory, ORCHARD_DATABASE_URL: databaseUrl, ORCHARD_SECRET_KEY: secretKey };
  let second = await startInstance(module, shared);
  const headers = { 'orchard-key': place.serverKey, 'content-type': 'application/json' };
  const put = (address, i) =>
    send(
      { url: `${address}/app/v1/data/pairs/p${i % 500}`, method: 'PUT', headers, body: JSON.stringify({ name: 'Fellgate', bunks: i }) },
      undefined,
    );
  const read = (address, i) => send({ url: `${address}/app/v1/data/pairs/p${i % 500}`, headers }, 200);
  for (let i = 0; i < 500; i++) await put(service.address, i);
  const mixed = (address, i) => (i % 4 === 0 ? put(address, i) : read(address, i));
  const rows = {};
  rows['two instances'] = {
    ...(await compare({
      rounds,
      count,
      width,
      ours: (i) => mixed(i % 2 ? second.address : service.address, i),
      bare: (i) => mixed(service.address, i),
    })),
    note: 'a write and three reads in turn, beside one instance',
  };
  const file = join(data, 'haproxy.cfg');
  writeFileSync(
    file,
    balancerSettings(
      `127.0.0.1:${port}`,
      [service.address, second.address].map((address) => new URL(address).host),
    ),
  );
  const balancer = spawn('haproxy', ['-f', file], { stdio: 'ignore' });
  await sleep(1_500);
  let [calls, failed, over] = [0, 0, false];
  const lanes = Array.from({ length: width }, async (_, lane) => {
    for (let i = lane; !over; i += width) {
      calls++;
      await mixed(`http://127.0.0.1:${port}`, i).catch(() => failed++);
    }
  });
  await sleep(2_000);
  await ended(second.child, 'SIGKILL');
  await sleep(3_000);
  second = await startInstance(module, shared);
  await sleep(2_000);
  over = true;
  await Promise.all(lanes);
  console.log(`one of two instances killed behind a balancer: ${failed} of ${calls} calls failed (aim: 0)${failed > 0 ? '  missed' : ''}`);
  balancer.kill('SIGTERM');
  await ended(second.child, 'SIGTERM');
  return rows;
}
