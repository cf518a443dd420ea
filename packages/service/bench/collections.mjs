// Batches, radius search, deep paging, filters to SQL, import and live events, each against bare code in the same run.
import { Readable } from 'node:stream';
import { bindSlots, compileSql, flatScope, readFilter, uuidv7 } from '@orchard/core';
import { operations, readEvents } from '@orchard/contract';
import { LRUCache } from 'lru-cache';
import { randomBytes } from 'node:crypto';
import { compare, median, rate } from './measure.mjs';

const sum = (list) => list.reduce((total, n) => total + n, 0);
const percentile = (list, share) => [...list].sort((a, b) => a - b)[Math.floor(list.length * share)];

/** A typical filter of five terms: microseconds to SQL, and from the cache to bound values. */
export function filterToSql() {
  const scope = flatScope(
    new Map([
      ['region', 'text'],
      ['bunks', 'number'],
      ['open', 'boolean'],
      ['name', 'text'],
      ['createdAt', 'time'],
    ]),
  );
  const text = "region = 'north' AND bunks > 10 AND open = TRUE AND name LIKE 'Cold%' AND createdAt > TIMESTAMP('2026-01-01T00:00:00Z')";
  const names = { column: ([name]) => `t.\`${name}\`` };
  const asking = { me: { id: null, roles: [] }, now: Date.now() };
  const time = (work, count) => {
    for (let i = 0; i < count; i++) work(i);
    const started = process.hrtime.bigint();
    for (let i = 0; i < count; i++) work(i);
    return Number(process.hrtime.bigint() - started) / 1000 / count;
  };
  const runs = (work, count) => median(Array.from({ length: 7 }, () => time(work, count)));
  const fresh = runs(() => bindSlots(compileSql(readFilter(text, scope), names).slots, asking), 5_000);
  const cache = new LRUCache({ max: 100 });
  cache.set(`list huts true ${JSON.stringify([text, undefined, undefined])}`, compileSql(readFilter(text, scope), names));
  const cached = runs(() => bindSlots(cache.get(`list huts true ${JSON.stringify([text, undefined, undefined])}`).slots, asking), 50_000);
  return { fresh, cached };
}

const hut = (i) => ({ name: `Hut ${i}`, region: ['north', 'middle', 'south', 'east', 'west'][i % 5], bunks: i % 60, open: i % 2 === 0 });

/** A thousand creations in one call, beside one multi-row insert in a transaction on the same table, feed rows and all. */
export async function batches({ service, send, serverHeaders, mysql, table, rounds }) {
  const body = (i) =>
    JSON.stringify({ actions: Array.from({ length: 1000 }, (_, n) => ({ action: 'create', record: hut(i * 1000 + n) })) });
  const bare = async (i) => {
    const now = new Date();
    const rows = Array.from({ length: 1000 }, (_, n) => {
      const { name, region, bunks, open } = hut(i * 1000 + n);
      return [uuidv7(now.getTime(), randomBytes(10)), now, now, 1, null, 'bench', name, region, bunks, open ? 1 : 0];
    });
    await mysql.query('START TRANSACTION');
    await mysql.query(`INSERT INTO ${table} (id, createdAt, updatedAt, version, ownerId, _by, name, region, bunks, open) VALUES ?`, [rows]);
    await mysql.query('COMMIT');
  };
  const ours = (i) =>
    send(
      {
        url: `${service.address}/app/v1/data/huts/batch`,
        method: 'POST',
        headers: { ...serverHeaders, 'content-type': 'application/json' },
        body: body(i),
      },
      200,
    );
  return compare({ rounds, count: 8, width: 1, warmUp: 4, ours, bare });
}

/** Makes a collection of a million places; its triggers rest meanwhile, since no feed is measured here. */
export async function fillPlaces({ member, params, mysql, database, count }) {
  const fields = [
    { name: 'name', type: 'text' },
    { name: 'position', type: 'place' },
  ];
  await member.call(operations.collections.create, { params, body: { name: 'places', fields, rules: { read: 'everyone' } } });
  await member.call(operations.collections.addIndex, { params: { ...params, collection: 'places' }, body: { fields: ['position'] } });
  const [triggers] = await mysql.query(
    "SELECT TRIGGER_NAME AS name, EVENT_MANIPULATION AS event, ACTION_STATEMENT AS body FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = ? AND EVENT_OBJECT_TABLE = 'places'",
    [database],
  );
  for (const { name } of triggers) await mysql.query(`DROP TRIGGER \`${database}\`.\`${name}\``);
  for (let from = 0; from < count; from += 50_000)
    await mysql.query(
      `INSERT INTO \`${database}\`.places (id, createdAt, updatedAt, version, name, position)
       SELECT LPAD(seq, 12, '0'), UTC_TIMESTAMP(3), UTC_TIMESTAMP(3), 1, CONCAT('Place ', seq), POINT(RAND(seq) * 20, 50 + RAND(seq + 5000000) * 12) FROM seq_${from + 1}_to_${Math.min(count, from + 50_000)}`,
    );
  for (const { name, event, body } of triggers)
    await mysql.query(`CREATE TRIGGER \`${database}\`.\`${name}\` AFTER ${event} ON \`${database}\`.places FOR EACH ROW ${body}`);
  await mysql.query(`ANALYZE TABLE \`${database}\`.places`);
}

/** A radius with about fifty places in it, the fifty nearest asked for. */
export function radius({ service, bareAddress, send, headers, rounds, count }) {
  const center = (i) => [2 + ((i * 7919) % 1600) / 100, 51 + ((i * 104729) % 1000) / 100];
  const metres = 4_300 * Math.sqrt(1e6 / count);
  const ours = async (i) => {
    const [lon, lat] = center(i);
    const query = new URLSearchParams({ filter: `distance(position, POINT(${lon} ${lat})) < ${metres}`, limit: '50' });
    return send({ url: `${service.address}/app/v1/data/places?${query}`, headers }, 200);
  };
  const bare = async (i) => {
    const [lon, lat] = center(i);
    return send({ url: `${bareAddress}/places?lon=${lon}&lat=${lat}&metres=${metres}` }, 200);
  };
  return compare({ rounds, count: 300, width: 8, ours, bare });
}

/** The page that 10,000 pages of 50 lead to, beside the first one. */
export async function deepPaging({ service, send, headers, rounds, count }) {
  const page = async (query) =>
    JSON.parse(await send({ url: `${service.address}/app/v1/data/places?${new URLSearchParams(query)}`, headers }, 200));
  let cursor = '';
  const pages = Math.min(500, Math.floor(count / 1000) - 1);
  for (let i = 0; i < pages; i++) cursor = (await page({ limit: '1000', fields: 'name', ...(cursor ? { cursor } : {}) })).next;
  const result = await compare({
    rounds,
    count: 400,
    width: 8,
    ours: () => page({ limit: '50', cursor }),
    bare: () => page({ limit: '50' }),
  });
  return { ...result, depth: pages * 20 };
}

/** NDJSON through the API, beside LOAD DATA of the same rows: into a table of the same form with its feed, and without. */
export async function imports({ member, params, mysql, database, rows, rounds }) {
  const lines = Array.from({ length: rows }, (_, i) => `${JSON.stringify(hut(i))}\n`);
  const ndjson = lines.join('');
  const tsv = () => {
    const now = new Date().toISOString().slice(0, 23).replace('T', ' ');
    return Array.from({ length: rows }, (_, i) => {
      const { name, region, bunks, open } = hut(i);
      return `${uuidv7(Date.now(), randomBytes(10))}\t${now}\t${now}\t1\tbench\t${name}\t${region}\t${bunks}\t${open ? 1 : 0}\n`;
    }).join('');
  };
  await member.call(operations.collections.create, {
    params,
    body: {
      name: 'loads',
      fields: [
        { name: 'name', type: 'text' },
        { name: 'region', type: 'text' },
        { name: 'bunks', type: 'integer' },
        { name: 'open', type: 'boolean' },
      ],
    },
  });
  await mysql.query(`CREATE TABLE \`${database}\`.\`_bench_plain\` LIKE \`${database}\`.loads`);
  await mysql.query('SET GLOBAL local_infile = ON');
  const load = async (table) => {
    const text = tsv();
    const started = process.hrtime.bigint();
    await mysql.query({
      sql: `LOAD DATA LOCAL INFILE 'rows' INTO TABLE \`${database}\`.\`${table}\` CHARACTER SET utf8mb4 (id, createdAt, updatedAt, version, _by, name, region, bunks, open)`,
      infileStreamFactory: () => Readable.from([Buffer.from(text)]),
    });
    return rows / (Number(process.hrtime.bigint() - started) / 1e9);
  };
  const ours = async () => {
    const started = process.hrtime.bigint();
    const reply = await member.open(operations.collections.importRecords, {
      params: { ...params, collection: 'loads' },
      query: { format: 'ndjson' },
      raw: ndjson,
    });
    const report = await reply.json();
    if (report.stored !== rows) throw new Error(`Only ${report.stored} of ${rows} rows were stored.`);
    return rows / (Number(process.hrtime.bigint() - started) / 1e9);
  };
  await ours();
  await load('loads');
  const all = [];
  for (let round = 0; round < rounds; round++)
    all.push({ ours: await ours(), bare: await load('loads'), plain: await load('_bench_plain') });
  const ratios = all.map((one) => one.ours / one.bare).sort((a, b) => a - b);
  return {
    ratio: median(ratios),
    ours: median(all.map((one) => one.ours)),
    bare: median(all.map((one) => one.bare)),
    spread: ratios,
    note: `beside LOAD DATA into a table without change feed: ${median(all.map((one) => one.ours / one.plain)).toFixed(2)}, ${Math.round(median(all.map((one) => one.plain))).toLocaleString('en-GB')} rows a second`,
  };
}

/** Five hundred listeners on filters: from the answer to a write until its event, and what they cost the writes. */
export async function live({ service, send, headers, listeners, writes, rounds }) {
  const arrived = new Map();
  let stopping = new AbortController();
  let ready = 0;
  const listen = async (i) => {
    const reply = await fetch(
      `${service.address}/app/v1/live/huts?${new URLSearchParams({ filter: `bunks = ${i % 60} AND region <> 'nowhere'` })}`,
      { headers, signal: stopping.signal },
    );
    for await (const { event, data } of readEvents(reply)) {
      if (event === 'ready') ready++;
      if (event === 'entered') {
        const times = arrived.get(data.record.id) ?? [];
        times.push(performance.now());
        arrived.set(data.record.id, times);
      }
    }
  };
  const answered = new Map();
  const write = async (i) => {
    const reply = JSON.parse(
      await send(
        {
          url: `${service.address}/app/v1/data/huts`,
          method: 'POST',
          headers: { ...headers, 'content-type': 'application/json' },
          body: JSON.stringify(hut(i)),
        },
        201,
      ),
    );
    answered.set(reply.id, performance.now());
  };
  const connect = async () => {
    ready = 0;
    stopping = new AbortController();
    for (let i = 0; i < listeners; i++) void listen(i).catch(() => undefined);
    for (let waited = 0; ready < listeners; waited += 50) {
      if (waited > 60_000) throw new Error(`Only ${ready} of ${listeners} listeners are connected.`);
      await new Promise((resolve) => setTimeout(resolve, 50));
    }
  };
  await rate(write, writes, 8);
  const [alone, together] = [[], []];
  for (let round = 0; round < rounds; round++) {
    alone.push(await rate(write, writes, 8));
    await connect();
    answered.clear();
    arrived.clear();
    together.push(await rate(write, writes, 8));
    await new Promise((resolve) => setTimeout(resolve, 1_000));
    if (round < rounds - 1) stopping.abort();
  }
  await new Promise((resolve) => setTimeout(resolve, 2_000));
  // One write at a time, spaced: what a single change takes to arrive.
  const crowd = { ids: new Set(answered.keys()) };
  for (let i = 0; i < 150; i++) {
    await write(i);
    await new Promise((resolve) => setTimeout(resolve, 40));
  }
  await new Promise((resolve) => setTimeout(resolve, 2_000));
  stopping.abort();
  const waits = (ids) => [...ids].flatMap((id) => (arrived.get(id) ?? []).map((at) => Math.max(0, at - answered.get(id))));
  const single = waits([...answered.keys()].filter((id) => !crowd.ids.has(id)));
  const crowded = waits(crowd.ids);
  const expected = sum([...answered.keys()].map(() => 1)) * (listeners / 60);
  const kept = alone.map((before, round) => together[round] / before);
  return {
    alone: median(alone),
    together: median(together),
    kept: median(kept),
    p50: percentile(single, 0.5),
    p95: percentile(single, 0.95),
    crowdedP95: percentile(crowded, 0.95),
    share: (single.length + crowded.length) / expected,
  };
}
