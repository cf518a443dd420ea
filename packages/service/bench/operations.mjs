// Operations: sums of a long period, requests by filter, evaluating objectives, recording, and taking in log entries.
import { setTimeout as sleep } from 'node:timers/promises';
import { operations } from '@orchard/contract';
import { SMS_ACCOUNT } from '@orchard/simulators';
import { compare, median } from './measure.mjs';

const DAY_MS = 86_400_000;
const text = (at) => new Date(at).toISOString().slice(0, 19).replace('T', ' ');
const ROUTES = Array.from({ length: 20 }, (_, i) => `/app/v1/data/{collection}/${i}`);
const CLIENTS = ['hiker-ios', 'hiker-android', 'hiker-web', 'office'];
const STATUSES = [
  [200, '', 0.95],
  [404, 'not-found', 0.03],
  [503, 'database-unavailable', 0.02],
];

/** Requests of ninety days, made on the server by doubling, and the sums of their days. */
export async function fillCalls({ mysql, database, requests }) {
  const table = `\`${database}\`.\`_requests\``;
  const seed = 1_000;
  const rows = Array.from({ length: seed }, (_, i) => {
    const [status, problem] = STATUSES[i % 20 === 0 ? 1 : i % 50 === 0 ? 2 : 0];
    return [
      `s-${i}`,
      text(Date.now() - (i % 90) * DAY_MS),
      'GET',
      ROUTES[i % 20],
      '/app/v1/data/huts',
      status,
      1_000 + ((i * 7919) % 90_000),
      500,
      1,
      CLIENTS[i % 4],
      'a'.repeat(32),
      'b'.repeat(16),
      problem || null,
      0,
      900,
    ];
  });
  const columns =
    'id, at, method, route, path, status, durationUs, databaseUs, statements, client, trace, span, problem, bytesIn, bytesOut';
  await mysql.query(`INSERT INTO ${table} (${columns}) VALUES ?`, [rows]);
  for (let have = seed, turn = 0; have < requests; have *= 2, turn++)
    await mysql.query(
      `INSERT INTO ${table} (${columns}) SELECT MD5(CONCAT(id, '-', ${turn})), at + INTERVAL ${turn + 1} SECOND, method, route, path, status, durationUs + ${turn}, databaseUs, statements, client, trace, span, problem, bytesIn, bytesOut FROM ${table} WHERE span = '${'b'.repeat(16)}' LIMIT ${requests - have}`,
    );
  const days = `\`${database}\`.\`_requestDays\``;
  const sums = [];
  for (let day = 1; day <= 90; day++)
    for (const route of ROUTES)
      for (const client of CLIENTS)
        for (const [status, problem, share] of STATUSES) {
          const calls = Math.max(1, Math.round((requests / 90 / 80) * share));
          const histogram = Array.from({ length: 12 }, (_, i) => `${70 + i * 3}:${Math.max(1, Math.round(calls / 12))}`).join(' ');
          sums.push([
            text(Math.floor((Date.now() - day * DAY_MS) / DAY_MS) * DAY_MS),
            'call',
            'GET',
            route,
            'huts',
            client,
            status,
            problem,
            calls,
            calls * 20_000,
            histogram,
          ]);
        }
  for (let from = 0; from < sums.length; from += 2_000)
    await mysql.query(`INSERT INTO ${days} (at, kind, method, route, target, client, status, problem, calls, sumUs, histogram) VALUES ?`, [
      sums.slice(from, from + 2_000),
    ]);
  await mysql.query(`ANALYZE TABLE ${table}`);
}

const timed = async (work) => {
  const began = performance.now();
  await work();
  return performance.now() - began;
};

/** API use of ninety days by the service, and the same sums by one statement over the requests. */
export async function usage({ mysql, database, member, params, rounds }) {
  const until = new Date();
  const query = { from: new Date(until.getTime() - 90 * DAY_MS).toISOString(), until: until.toISOString() };
  const ours = () => member.call(operations.telemetry.usage, { params, query });
  const bare = () =>
    mysql.query(
      `SELECT DATE(at) AS day, method, route, status, COUNT(*), AVG(durationUs), MAX(durationUs) FROM \`${database}\`.\`_requests\` WHERE at >= ? GROUP BY day, method, route, status`,
      [query.from.slice(0, 19).replace('T', ' ')],
    );
  await ours();
  const pairs = [];
  for (let round = 0; round < Math.min(rounds, 3); round++) pairs.push([await timed(ours), await timed(bare)]);
  return { ours: median(pairs.map(([one]) => one)), bare: median(pairs.map(([, one]) => one)) };
}

/** Requests of one day by filter, and the same rows by a statement written by hand. */
export function requestsByFilter({ mysql, database, send, service, memberHeaders, params, rounds }) {
  const from = new Date(Math.floor(Date.now() / DAY_MS) * DAY_MS - DAY_MS);
  const until = new Date(from.getTime() + DAY_MS);
  const filter = `status >= 400 AND client = 'hiker-ios' AND at >= TIMESTAMP('${from.toISOString()}') AND at < TIMESTAMP('${until.toISOString()}')`;
  const url = `${service.address}/manage/v1/apps/${params.app}/environments/${params.environment}/requests?limit=50&filter=${encodeURIComponent(filter)}`;
  return compare({
    rounds,
    count: 40,
    width: 2,
    ours: () => send({ url, headers: memberHeaders }, 200),
    bare: () =>
      mysql.query(
        `SELECT id, at, method, route, path, status, durationUs, databaseUs, client, userId, deviceId, trace, problem, target, version, keptOf FROM \`${database}\`.\`_requests\` WHERE status >= 400 AND client = 'hiker-ios' AND at >= ? AND at < ? ORDER BY at DESC, id DESC LIMIT 51`,
        [text(from), text(until)],
      ),
  });
}

/** Reads by id with headers and timeline recorded, and without. */
export async function recording({ send, service, headers, pick, member, params, count, rounds }) {
  const set = (on) => member.call(operations.telemetry.changeRecording, { params, body: { headers: on } });
  const read = (i) => send({ url: `${service.address}/app/v1/data/huts/${pick(i)}`, headers }, 200);
  const rates = [];
  const { rate } = await import('./measure.mjs');
  await rate(read, count, 32);
  for (let round = 0; round < rounds; round++) {
    const pair = {};
    for (const on of round % 2 ? [true, false] : [false, true]) {
      await set(on);
      pair[on] = await rate(read, count, 32);
    }
    rates.push(pair);
  }
  await set(true);
  const ratios = rates.map((pair) => pair.true / pair.false).sort((a, b) => a - b);
  return {
    ratio: median(ratios),
    ours: median(rates.map((pair) => pair.true)),
    bare: median(rates.map((pair) => pair.false)),
    spread: ratios,
  };
}

/** Log entries through the API, a hundred a call, and a bare insert of as many rows into a table of the same form. */
export async function logIntake({ mysql, database, send, service, key, rounds }) {
  await mysql.query(`CREATE TABLE \`${database}\`.\`bareLog\` LIKE \`${database}\`.\`_logEntries\``);
  const pool = (await import('mysql2/promise')).createPool({
    uri: mysql.config.uri ?? undefined,
    ...mysql.benchConfig,
    connectionLimit: 8,
  });
  const entries = Array.from({ length: 100 }, (_, i) => ({ text: `The map is stored, tile ${i}`, fields: { tile: i } }));
  const body = JSON.stringify({ entries });
  const uuid = () => crypto.randomUUID();
  const result = await compare({
    rounds,
    count: 200,
    width: 8,
    ours: () =>
      send(
        { url: `${service.address}/app/v1/log`, method: 'POST', headers: { 'orchard-key': key, 'content-type': 'application/json' }, body },
        202,
      ),
    bare: () =>
      pool.query(`INSERT INTO \`${database}\`.\`bareLog\` (at, id, level, source, text, fields) VALUES ?`, [
        entries.map((entry) => [new Date(), uuid(), 1, 'app ios', entry.text, JSON.stringify(entry.fields)]),
      ]),
  });
  await pool.end();
  return result;
}

const METRIC = /^orchard_condition_evaluation_seconds (\S+)/m;

/** The longest evaluation of so many environments, each with twenty routes in use. */
export async function evaluation({ mysql, service, member, count }) {
  const apps = Array.from({ length: Math.ceil(count / 2) }, (_, i) => `watched-${i}`);
  for (const name of apps) await member.call(operations.apps.create, { body: { name } });
  const [rows] = await mysql.query("SELECT id FROM environments WHERE app LIKE 'watched-%'");
  const times = [];
  for (let round = 0; round < 8; round++) {
    const at = text(Math.floor(Date.now() / 10_000) * 10_000);
    for (const { id } of rows) {
      const cells = ROUTES.flatMap((route) =>
        [200, 404].map((status) => [
          at,
          'call',
          'GET',
          route,
          'huts',
          'ios',
          status,
          status === 404 ? 'not-found' : '',
          'bench',
          50,
          900_000,
          '70:20 74:20 78:10',
        ]),
      );
      await mysql.query(
        `INSERT IGNORE INTO \`orchard_${id}\`.\`_requestCells\` (at, kind, method, route, target, client, status, problem, instance, calls, sumUs, histogram) VALUES ?`,
        [cells],
      );
    }
    await sleep(10_000);
    const metrics = await (await fetch(`${service.address}/metrics`)).text();
    times.push(Number(METRIC.exec(metrics)?.[1] ?? Number.NaN));
  }
  // The first ones load what windows hold.
  const steady = times.slice(3);
  return { environments: rows.length, median: median(steady), longest: Math.max(...steady) };
}

const NUMBER = '+12025550163';

/** Seconds from the first refused call of a fresh environment to the alert on a phone. */
export async function alertTime({ service, simulators, member, send }) {
  const texts = async () => await (await fetch(`${simulators.address}/desk/texts?to=${encodeURIComponent(NUMBER)}`)).json();
  await member.call(operations.memberWays.addGateway, {
    body: {
      kind: 'smpp',
      name: 'heron',
      stage: 'live',
      settings: { host: 'localhost', port: simulators.smpp, systemId: SMS_ACCOUNT.systemId, sender: 'Quillfell' },
      password: SMS_ACCOUNT.password,
    },
  });
  for (let tries = 0; tries < 30; tries++) {
    const { ok } = await member.call(operations.memberWays.checkGateway, { params: { gateway: 'heron' } });
    if (ok) break;
    await sleep(1_000);
  }
  const way = await member.call(operations.memberWays.add, { body: { kind: 'sms', number: NUMBER } });
  await sleep(500);
  const code = /\b\d{6}\b/.exec((await texts()).at(-1)?.text ?? '')?.[0] ?? '';
  await member.call(operations.memberWays.verify, { params: { way: way.id }, body: { code } });
  await member.call(operations.apps.create, { body: { name: 'alerting' } });
  const params = { app: 'alerting', environment: 'live' };
  const client = await member.call(operations.clients.create, { params, body: { name: 'ios', kind: 'ios' } });
  await member.call(operations.alerts.replace, {
    params,
    body: { rules: [{ name: 'failing', on: 'condition', steps: [[{ to: 'role', role: 'owner' }]] }] },
  });
  await sleep(12_000);
  const began = performance.now();
  const headers = { 'orchard-key': client.keys[0].key };
  for (let i = 0; i < 60; i++) await send({ url: `${service.address}/app/v1/data/huts`, headers }, 404);
  for (;;) {
    if ((await texts()).some(({ text: said }) => said.includes('is failing'))) return (performance.now() - began) / 1000;
    if (performance.now() - began > 120_000) return Number.NaN;
    await sleep(100);
  }
}
