/** npm run storm: everything at once on a cluster, while parts of it are killed at random; then whether all of it holds. */
import { rmSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { parseArgs } from 'node:util';
import { createHttpClient, operations, SCOPES } from '@orchard/contract';
import { openDatabase } from '@orchard/service/past';
import { functionCalls, intake, uploads } from './loads/apps.js';
import { type Load, memberAt, type Place, type Verdict, unexpected } from './loads/load.js';
import { readers } from './loads/readers.js';
import { counters, creators, imports, writers } from './loads/records.js';
import { send } from './loads/send.js';
import { storm } from './faults.js';
import { StormParts } from './parts.js';

const OWNER = { email: 'mira@quillfell.example', name: 'Mira Quill', password: 'orchard-in-bloom' };
const DEVICE_COLUMNS =
  'id, client, platform, appVersion, os, locale, timeZone, permission, endpoint, p256dh, auth, createdAt, updatedAt, lastSeenAt';
const ROWS_AT_ONCE = 1_000;

const { values } = parseArgs({
  options: {
    seconds: { type: 'string', default: '600' },
    writers: { type: 'string', default: '20' },
    readers: { type: 'string', default: '500' },
    devices: { type: 'string', default: '50000' },
    seed: { type: 'string', default: String(Math.floor(Math.random() * 2 ** 31)) },
    only: { type: 'string', default: '' },
    data: { type: 'string', default: '.orchard/storm' },
  },
});
const [seconds, devices, seed] = [Number(values.seconds), Number(values.devices), Number(values.seed)];
const data = resolve(values.data);

/** The same numbers for the same seed (Lehmer’s generator with 16807). */
function randomOf(first: number): () => number {
  let state = (first % 2_147_483_646) + 1;
  return () => {
    state = (state * 16_807) % 2_147_483_647;
    return state / 2_147_483_647;
  };
}

async function signInOwner(parts: StormParts) {
  for (const { setupAddress } of parts.instances) {
    if (!setupAddress) continue;
    const body = { token: new URL(setupAddress).searchParams.get('token') as string, ...OWNER };
    await createHttpClient({ address: parts.address })
      .call(operations.members.setUp, { body })
      .catch(() => null);
  }
  const { email, password } = OWNER;
  const { token } = await createHttpClient({ address: parts.address }).call(operations.members.signIn, {
    body: { email, password, as: 'token' },
  });
  return memberAt(parts.address, token as string);
}

async function place(parts: StormParts): Promise<Place> {
  const owner = await signInOwner(parts);
  await owner.call(operations.apps.create, { body: { name: 'storm' } });
  const params = { app: 'storm', environment: 'dev' };
  const client = await owner.call(operations.clients.create, { params, body: { name: 'hiker-ios', kind: 'ios' } });
  await owner.call(operations.clients.create, { params, body: { name: 'office', kind: 'server' } });
  const key = await owner.call(operations.clients.createKey, {
    params: { ...params, client: 'office' },
    body: { name: 'storm', scopes: [...SCOPES] },
  });
  await owner.call(operations.collections.create, {
    params,
    body: {
      name: 'huts',
      fields: [
        { name: 'name', type: 'text' },
        { name: 'beds', type: 'integer' },
      ],
    },
  });
  await owner.call(operations.collections.create, { params, body: { name: 'notes', fields: [{ name: 'mark', type: 'text' }] } });
  return { address: parts.address, owner, params, clientKey: client.keys[0]?.key as string, serverKey: key.key as string };
}

/** Devices straight into their table: registering fifty thousand takes longer than the storm. */
function filler({ cluster }: StormParts): (rows: unknown[][]) => Promise<void> {
  return async (rows) => {
    const database = openDatabase(cluster.url(0), { connections: 1 });
    const [environment] = await database.rows<{ id: string }>("SELECT id FROM environments WHERE app = 'storm' AND name = 'dev'");
    for (let at = 0; at < rows.length; at += ROWS_AT_ONCE)
      await database.run(`INSERT INTO \`orchard_${environment?.id}\`._devices (${DEVICE_COLUMNS}) VALUES ?`, [
        rows.slice(at, at + ROWS_AT_ONCE),
      ]);
    await database.close();
  };
}

function table(verdicts: readonly Verdict[], happened: ReadonlyMap<string, number>): string {
  const lines = verdicts.map(({ load, done, unit, wrong, note }) => {
    const state = wrong.length === 0 ? 'holds' : 'BROKEN';
    return [
      `  ${load.padEnd(14)}${done.toLocaleString('en').padStart(9)} ${unit.padEnd(26)}${state}`,
      ...(note ? [`    ${note}`] : []),
      ...wrong.slice(0, 5).map((one) => `    ${one}`),
    ].join('\n');
  });
  const faults = [...happened].map(([what, times]) => `  ${String(times).padStart(3)}  ${what}`);
  return `\n${lines.join('\n')}\n\nWhat went wrong meanwhile\n${faults.join('\n')}\n`;
}

console.log(`The storm: ${seconds} s, seed ${seed}`);
StormParts.forget(data);
const parts = await StormParts.start(data);
for (const signal of ['SIGINT', 'SIGTERM'] as const)
  process.once(signal, async () => {
    console.log('Ending what it started …');
    await parts.heal().catch(() => undefined);
    await parts.stop();
    process.exit(1);
  });
let isBroken = true;
try {
  const at = await place(parts);
  const loads: Load[] = [
    writers(at, Number(values.writers)),
    creators(at, 4),
    counters(at, 2),
    readers(at, Number(values.readers)),
    uploads(at, 2),
    intake(at, 2),
    functionCalls(at, 2),
    imports(at, 2_000),
    send(at, parts.simulators, filler(parts), devices),
  ];
  for (const { prepare } of loads) await prepare?.();
  const stopping = new AbortController();
  const running = loads.map((load) => load.begin(stopping.signal));
  for (const one of running) one.catch((error) => console.log(`  a load has ended: ${(error as Error).message}`));
  await sleep(3_000);
  const ended = new AbortController();
  setTimeout(() => ended.abort(), seconds * 1_000);
  const began = Date.now();
  const tell = (what: string) => console.log(`  ${String(Math.round((Date.now() - began) / 1000)).padStart(4)} s  ${what}`);
  const happened = await storm(parts, ended.signal, randomOf(seed), tell, values.only);
  await parts.heal();
  stopping.abort();
  await Promise.allSettled(running);
  const verdicts: Verdict[] = [];
  for (const load of loads)
    verdicts.push(await load.verify().catch((error) => ({ load: '?', done: 0, unit: '', wrong: [(error as Error).message] })));
  console.log(table(verdicts, happened));
  for (const [call, answer] of unexpected) console.log(`  ${call} was answered ${answer}`);
  isBroken = verdicts.some(({ wrong }) => wrong.length > 0);
  console.log(
    isBroken ? 'Something did not hold.' : 'Nothing acknowledged was lost, nothing was done twice, every reader saw everything in order.',
  );
} finally {
  await parts.stop();
  rmSync(join(data), { recursive: true, force: true });
}
process.exit(isBroken ? 1 : 0);
