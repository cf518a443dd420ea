// Sync with the client library: first fill beside a bare NDJSON download, queries and writes on the device, a push of a thousand
// changes beside one batch call of the same, an idle device, and a thousand devices that come back at once.
import { mkdtempSync } from 'node:fs';
import { createServer } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { once } from 'node:events';
import { setTimeout as sleep } from 'node:timers/promises';
import { connect } from '@orchard/client';
import { fileStore } from '@orchard/client/node';
import { operations } from '@orchard/contract';
import { median } from './measure.mjs';

const seconds = async (work) => {
  const started = performance.now();
  await work();
  return (performance.now() - started) / 1000;
};
const told = (name, text, isMet) => console.log(`${name.padEnd(52)}${text}${isMet ? '' : '  missed'}`);
const COME_BACK_MS = 60_000;
const [RECORDS, CHANGES, DEVICES, LOCAL] = [50_000, 1_000, 1_000, 10_000];
const REGIONS = ['north', 'middle', 'south', 'east', 'west'];
const place = (i) => ({
  id: `p${String(i).padStart(6, '0')}`,
  name: `Place ${i}`,
  region: REGIONS[i % 5],
  bunks: i % 60,
  open: i % 2 === 0,
  altitudeM: i % 2_000,
  note: `What wardens say of place ${i}`,
});

/** @param place of the bench: address, keys, member */
export async function sync({ service, place: { member, params, serverKey, key, token }, send, mysql, database, rounds }) {
  const json = { 'content-type': 'application/json' };
  const server = { 'orchard-key': serverKey, ...json };
  const rules = { read: 'TRUE', create: 'signed-in', update: 'signed-in', delete: 'signed-in' };
  const fields = [
    ['name', 'text'],
    ['region', 'text'],
    ['bunks', 'integer'],
    ['open', 'boolean'],
    ['altitudeM', 'integer'],
    ['note', 'text'],
  ];
  await member.call(operations.collections.create, {
    params,
    body: { name: 'places', fields: fields.map(([name, type]) => ({ name, type })), rules },
  });
  for (let from = 0; from < RECORDS; from += 1_000) {
    const actions = Array.from({ length: 1_000 }, (_, i) => ({ action: 'create', record: place(from + i) }));
    await send(
      { url: `${service.address}/app/v1/data/places/batch`, method: 'POST', headers: server, body: JSON.stringify({ actions }) },
      200,
    );
  }
  const opened = async (scopes) => {
    const calls = [];
    const orchard = connect({ address: service.address, clientKey: serverKey, introduce: false, onCall: (call) => calls.push(call) });
    await orchard.sync.declare(scopes, { automatic: false, store: fileStore(mkdtempSync(join(tmpdir(), 'orchard-bench-sync-'))) });
    return { orchard, calls };
  };

  // First fill, end to end: pulled, kept in a file, and in memory.
  const bare = await bareDownload(mysql, database);
  const [fills, downloads] = [[], []];
  for (let round = 0; round < Math.min(rounds, 5); round++) {
    const { orchard } = await opened([{ collection: 'places' }]);
    downloads.push(RECORDS / (await seconds(() => download(bare.address))));
    fills.push(RECORDS / (await seconds(() => orchard.sync())));
  }
  bare.close();
  const [fill, ratio] = [median(fills), median(fills.map((one, i) => one / downloads[i]))];
  told(
    'first fill of 50,000 records',
    `${fill.toFixed(0)} records/s (aim: 10,000), ${ratio.toFixed(2)} of a bare NDJSON download (aim: 0.5)`,
    fill >= 10_000 && ratio >= 0.5,
  );

  await onDevice(opened);
  await pushing({ service, send, server, opened });
  const { orchard, calls } = await opened([{ collection: 'places' }]);
  await orchard.sync();
  calls.length = 0;
  const [idle] = await idleBytes(service, key, token);
  told('an idle device learns that nothing changed', `${idle} bytes (aim: under 500)`, idle < 500);
  await afterOutage({ service, key, token, send });
}

/** The same records as lines of JSON from Express's bare neighbour, Node's own server, over one SELECT. */
async function bareDownload(mysql, database) {
  const server = createServer(async (_request, response) => {
    const [rows] = await mysql.query(`SELECT * FROM \`${database}\`.\`places\` ORDER BY id`);
    response.setHeader('content-type', 'application/x-ndjson');
    for (let from = 0; from < rows.length; from += 1_000)
      if (
        !response.write(
          rows
            .slice(from, from + 1_000)
            .map((row) => `${JSON.stringify(row)}\n`)
            .join(''),
        )
      )
        await once(response, 'drain');
    response.end();
  });
  server.listen(0, '127.0.0.1');
  await once(server, 'listening');
  return { address: `http://127.0.0.1:${server.address().port}/`, close: () => server.close() };
}
async function download(address) {
  const text = await (await fetch(address)).text();
  const rows = text
    .split('\n')
    .filter(Boolean)
    .map((line) => JSON.parse(line));
  if (rows.length !== RECORDS) throw new Error(`${rows.length} records came`);
}

async function onDevice(opened) {
  const scope = { collection: 'places', filter: `id < 'p${String(LOCAL).padStart(6, '0')}'` };
  const filter = "region = 'north' AND bunks > 20 AND open = TRUE AND altitudeM BETWEEN 200 AND 1500 AND name LIKE 'Place 1%'";
  for (const [how, indexes, aim] of [
    ['indexed', ['region'], 2],
    ['not indexed', [], 15],
  ]) {
    const { orchard } = await opened([{ ...scope, indexes: how === 'indexed' ? ['bunks'] : indexes }]);
    await orchard.sync();
    const places = orchard.collection('places');
    // An index serves a value that few records have.
    const asked = how === 'indexed' ? filter.replace('bunks > 20', 'bunks = 25') : filter;
    const times = [];
    for (let i = 0; i < 60; i++) times.push((await seconds(() => places.list({ filter: asked, sort: 'name', limit: 50 }))) * 1000);
    const took = median(times.slice(10));
    told(`query of five terms, 10,000 records, ${how}`, `${took.toFixed(2)} ms (aim: under ${aim})`, took < aim);
  }
  const { orchard } = await opened([scope]);
  await orchard.sync();
  const places = orchard.collection('places');
  const live = places.live({ filter: "region = 'told'" });
  const times = [];
  for (let i = 0; i < 40; i++) {
    const started = performance.now();
    const heard = new Promise((resolve) => {
      const stop = live.subscribe(({ items }) => items.length === i + 1 && (stop(), resolve(performance.now() - started)));
    });
    await places.create({ id: `told-${i}`, region: 'told' });
    times.push(await heard);
  }
  const took = median(times.slice(5));
  told('write on the device to subscribers told', `${took.toFixed(2)} ms (aim: under 5)`, took < 5);
}

async function pushing({ service, send, server, opened }) {
  const ratios = [];
  const pushes = [];
  for (let round = 0; round < 3; round++) {
    const { orchard } = await opened([{ collection: 'places', filter: "id = 'none'" }]);
    await orchard.sync();
    const places = orchard.collection('places');
    for (let i = 0; i < CHANGES; i++) await places.create({ ...place(i), id: `push-${round}-${i}` });
    const took = await seconds(() => orchard.sync());
    const actions = Array.from({ length: CHANGES }, (_, i) => ({ action: 'create', record: { ...place(i), id: `batch-${round}-${i}` } }));
    const batch = await seconds(() =>
      send({ url: `${service.address}/app/v1/data/places/batch`, method: 'POST', headers: server, body: JSON.stringify({ actions }) }, 200),
    );
    pushes.push(took);
    ratios.push(batch / took);
  }
  const [took, ratio] = [median(pushes), median(ratios)];
  told(
    '1,000 pending changes pushed',
    `${took.toFixed(2)} s (aim: under 2), ${ratio.toFixed(2)} of one batch call (aim: 0.5)`,
    took < 2 && ratio >= 0.5,
  );
}

const pullAt = (address, headers, body) =>
  fetch(`${address}/app/v1/sync/pull`, {
    method: 'POST',
    headers: { ...headers, 'content-type': 'application/json' },
    body: JSON.stringify(body),
  });

async function idleBytes(service, key, token) {
  const headers = { 'orchard-key': key, authorization: `Bearer ${token}` };
  const first = await (await pullAt(service.address, headers, { scopes: [{ collection: 'places', ids: [] }] })).json();
  const shape = first.scopes[0].shape.name;
  const scopes = Array.from({ length: 5 }, (_, i) => ({ collection: 'places', filter: `bunks = ${i}`, at: first.at, shape }));
  const { at } = await (await pullAt(service.address, headers, { scopes })).json();
  const text = await (await pullAt(service.address, headers, { scopes: scopes.map((one) => ({ ...one, at })) })).text();
  return [Buffer.byteLength(text)];
}

/**
 * Each has five scopes, is a hundred changes behind, and brings one of its own. After a long outage the library waits between half a
 * minute and a minute and a half, at random, before it tries again: so the devices come within a minute.
 */
async function afterOutage({ service, key, token, send }) {
  const headers = { 'orchard-key': key, authorization: `Bearer ${token}` };
  const { at } = await (await pullAt(service.address, headers, { scopes: [{ collection: 'places', ids: [] }] })).json();
  const actions = Array.from({ length: 100 }, (_, i) => ({
    action: 'patch',
    id: place(i * 7).id,
    record: { note: 'Closed for the storm' },
  }));
  await send(
    {
      url: `${service.address}/app/v1/data/places/batch`,
      method: 'POST',
      headers: { ...headers, 'content-type': 'application/json' },
      body: JSON.stringify({ actions }),
    },
    200,
  );
  const scopes = Array.from({ length: 5 }, (_, i) => ({ collection: 'places', filter: `region = '${REGIONS[i]}'`, at }));
  const times = [];
  let failed = 0;
  const one = async (i) => {
    await sleep(Math.random() * COME_BACK_MS);
    const started = performance.now();
    const reply = await pullAt(service.address, headers, { scopes, pending: 1 });
    times.push(performance.now() - started);
    if (!reply.ok) failed++;
    await reply.text();
    const body = {
      changes: [{ id: crypto.randomUUID(), action: 'create', collection: 'places', record: `outage-${i}`, fields: { name: 'x' } }],
    };
    const pushed = await fetch(`${service.address}/app/v1/sync/push`, {
      method: 'POST',
      headers: { ...headers, 'content-type': 'application/json' },
      body: JSON.stringify(body),
    });
    if (!pushed.ok) failed++;
    await pushed.text();
  };
  const took = await seconds(() => Promise.all(Array.from({ length: DEVICES }, (_, i) => one(i))));
  const sorted = times.sort((a, b) => a - b);
  const p95 = sorted[Math.floor(sorted.length * 0.95)];
  told(
    '1,000 devices that come back after an outage',
    `p95 ${p95.toFixed(0)} ms (aim: under 1,000), ${failed} failed, all in ${took.toFixed(1)} s`,
    p95 < 1_000 && failed === 0,
  );
}
