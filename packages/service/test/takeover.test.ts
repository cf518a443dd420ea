/** The instance that evaluates is killed, and another takes over. */
import { type ChildProcess, fork } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { fileURLToPath } from 'node:url';
import { createHttpClient, type HttpClient, operations } from '@orchard/contract';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { scratchDirectory } from './scratch.js';
import { eventually, memberClient, OWNER } from './support.js';

const MAIN = fileURLToPath(new URL('../dist/main.js', import.meta.url));
type Instance = { child: ChildProcess; address: string; setupAddress: string | null };
const secretKey = randomBytes(32).toString('hex');
const url = new URL(inject('databaseUrl'));
url.pathname = `/takeover_${process.pid}`;
const running: ChildProcess[] = [];

async function start(): Promise<Instance> {
  const env = {
    ...process.env,
    ORCHARD_PORT: '0',
    ORCHARD_DATA: scratchDirectory('takeover'),
    ORCHARD_DATABASE_URL: url.toString(),
    ORCHARD_SECRET_KEY: secretKey,
    ORCHARD_LOG_LEVEL: 'fatal',
  };
  const child = fork(MAIN, [], { env, stdio: ['ignore', 'ignore', 'ignore', 'ipc'] });
  running.push(child);
  const said = await new Promise<Omit<Instance, 'child'>>((resolve, reject) => {
    child.once('message', (message) => resolve(message as never));
    child.once('exit', (code) => reject(new Error(`The service ended with ${code}.`)));
  });
  return { child, ...said };
}

let first: Instance;
let second: Instance;
let owner: HttpClient;
beforeAll(async () => {
  first = await start();
  const token = new URL(first.setupAddress as string).searchParams.get('token') as string;
  await createHttpClient({ address: first.address }).call(operations.members.setUp, { body: { token, ...OWNER } });
  const member = await memberClient(first.address, OWNER);
  await member.call(operations.apps.create, { body: { name: 'quillfell-hiker' } });
  second = await start();
  owner = await memberClient(second.address, OWNER);
});
afterAll(() => {
  for (const child of running) child.kill('SIGKILL');
});

const evaluatedAt = async () => Date.parse((await owner.call(operations.condition.read, {})).evaluatedAt ?? '1970-01-01T00:00:00Z');

it('a dead evaluator is replaced within thirty seconds, and what it knew is known', async () => {
  const before = await eventually(async () => {
    const found = await owner.call(operations.condition.read, {});
    return found.items.length === 2 && found.items.every((one) => one.evaluatedAt !== null) && found;
  });
  const killedAt = Date.now();
  first.child.kill('SIGKILL');
  await eventually(async () => (await evaluatedAt()) > killedAt, 30_000);
  const after = await owner.call(operations.condition.read, {});
  expect(after.items.map(({ since }) => since)).toEqual(before.items.map(({ since }) => since));
});
