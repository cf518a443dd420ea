// Endpoints beside the reads they make, the sandbox alone, how soon a version is in force, and what a neighbour's loops cost.
import { operations } from '@orchard/contract';
import { Sandboxes } from '../dist/data/functions/sandbox/thread.js';
import { compare, median } from './measure.mjs';

const READ = "const handler: Endpoint = async ({ params }, { records }) => ({ body: await records('huts').read(params.id) });";
const code = (handler) => `${handler}\nexport default handler;`;
const save = (member, params, name, source, more) =>
  member.call(operations.functions.put, {
    params: { ...params, name },
    body: { kind: 'endpoint', path: name, callers: 'anyone', source: code(source), ...more },
  });

/** An endpoint that reads one record, beside the same read. */
export async function endpointRead({ service, send, headers, member, params, pick, rounds }) {
  await save(member, params, 'hut', READ, { path: 'huts/{id}' });
  return compare({
    rounds,
    count: 1_000,
    width: 32,
    ours: (i) => send({ url: `${service.address}/app/v1/endpoints/huts/${pick(i)}`, headers }, 200),
    bare: (i) => send({ url: `${service.address}/app/v1/data/huts/${pick(i)}`, headers }, 200),
  });
}

/** Creations that a small hook looks at first, beside those without one. */
export async function hookedCreate({ service, send, headers, member, params, rounds }) {
  const fields = [
    { name: 'note', type: 'text' },
    { name: 'party', type: 'integer' },
  ];
  for (const name of ['plain', 'checked'])
    await member.call(operations.collections.create, { params, body: { name, fields, rules: { create: 'TRUE' } } });
  await member.call(operations.functions.put, {
    params: { ...params, name: 'check' },
    body: {
      kind: 'hook',
      on: { moment: 'before', collection: 'checked', actions: ['create'] },
      source: code(
        "const handler: BeforeWrite<'checked'> = ({ record }, { refuse }) => { if (record!.party! > 20) refuse('Too many.'); return { record: { note: 'seen' } }; };",
      ),
    },
  });
  const create = (collection) => (i) =>
    send(
      {
        url: `${service.address}/app/v1/data/${collection}`,
        method: 'POST',
        headers: { ...headers, 'content-type': 'application/json' },
        body: JSON.stringify({ party: i % 20 }),
      },
      201,
    );
  return compare({ rounds, count: 1_000, width: 32, ours: create('checked'), bare: create('plain') });
}

/**
 * An operation of an upstream straight through, beside a bare proxy before the same system; and its kept answers beside reads by id.
 * @param start starts a process with these settings
 */
export async function upstreams({ service, send, headers, member, params, pick, rounds, start, port }) {
  await start({ BENCH_PORT: String(port) });
  await start({ BENCH_PORT: String(port + 1), BENCH_TARGET: `http://127.0.0.1:${port}` });
  const open = { callers: 'anyone' };
  await member.call(operations.upstreams.put, {
    params: { ...params, upstream: 'behind' },
    body: {
      address: `http://127.0.0.1:${port}`,
      atOnce: 64,
      operations: [
        { ...open, name: 'fresh', path: '/fresh/{hut}' },
        { ...open, name: 'kept', path: '/kept/{hut}' },
      ],
    },
  });
  const through = await compare({
    rounds,
    count: 1_000,
    width: 32,
    ours: () => send({ url: `${service.address}/app/v1/upstreams/behind/fresh/fellgate`, headers }, 200),
    bare: () => send({ url: `http://127.0.0.1:${port + 1}/fresh/fellgate`, headers }, 200),
  });
  const kept = await compare({
    rounds,
    count: 1_000,
    width: 32,
    ours: (i) => send({ url: `${service.address}/app/v1/upstreams/behind/kept/${i % 50}`, headers }, 200),
    bare: (i) => send({ url: `${service.address}/app/v1/data/huts/${pick(i)}`, headers }, 200),
  });
  return { through, kept };
}

/** @returns microseconds from handing a record of 1 kB to a sandbox until it is back, the median of a thousand runs */
export async function sandboxCall() {
  const sandboxes = new Sandboxes();
  const program = { files: { 'main.js': 'export default ({ record }) => ({ ...record, seen: true });' }, main: 'main.js' };
  const argument = JSON.stringify({ record: { name: 'Fellgate', text: 'x'.repeat(1_000) } });
  const times = [];
  for (let i = 0; i < 1_500; i++) {
    const started = process.hrtime.bigint();
    const result = await sandboxes.run('bench', program, argument, async () => '');
    if (!('answer' in result)) throw new Error(JSON.stringify(result));
    times.push(Number(process.hrtime.bigint() - started) / 1_000);
  }
  sandboxes.close();
  return median(times.slice(500));
}

/** @returns milliseconds from the answer to a save until calls answer with the new version, the longest of twenty */
export async function inForce({ service, send, headers, member, params }) {
  let longest = 0;
  for (let version = 1; version <= 20; version++) {
    await save(member, params, 'version', `const handler: Endpoint = () => ({ body: { version: ${version} } });`);
    const saved = Date.now();
    const answered = async () => JSON.parse(await send({ url: `${service.address}/app/v1/endpoints/version`, headers }, 200)).version;
    while ((await answered()) !== version);
    longest = Math.max(longest, Date.now() - saved);
  }
  return longest;
}

/** The 95th percentile of an endpoint's answers in `environments` environments, calm and while one more runs endless loops. */
export async function neighbours({ service, send, member, environments }) {
  const keys = [];
  for (let i = 0; i <= environments; i++) {
    const app = `neighbour-${i}`;
    await member.call(operations.apps.create, { body: { name: app } });
    const params = { app, environment: 'dev' };
    const { keys: made } = await member.call(operations.clients.create, { params, body: { name: 'ios', kind: 'ios' } });
    keys.push({ 'orchard-key': made[0].key });
    const source = i === environments ? 'const handler: Endpoint = () => { for (;;); };' : 'const handler: Endpoint = () => ({ body: 1 });';
    await save(member, params, 'work', source);
  }
  const url = `${service.address}/app/v1/endpoints/work`;
  const looping = keys.pop();
  const p95 = async () => {
    const times = [];
    for (let round = 0; round < 20; round++)
      for (const headers of keys) {
        const started = process.hrtime.bigint();
        await send({ url, headers }, 200);
        times.push(Number(process.hrtime.bigint() - started) / 1e6);
      }
    return times.sort((a, b) => a - b)[Math.floor(times.length * 0.95)];
  };
  await p95();
  const calm = await p95();
  let goes = true;
  const loops = (async () => {
    while (goes) await send({ url, headers: looping }, 503).catch((error) => error);
  })();
  const busy = await p95();
  goes = false;
  await loops;
  return { calm, busy, ratio: busy / calm };
}
