// Insight: questions about ninety days of events beside the best SQL over an indexed table of the same events, and taking events in.
import { createHash } from 'node:crypto';
import { setTimeout as sleep } from 'node:timers/promises';
import { deflateSync } from 'node:zlib';
import { operations } from '@orchard/contract';
import { packDay } from '@orchard/core/insight';
import { compare, median } from './measure.mjs';

const DAY_MS = 86_400_000;
const DAYS = 90;
const NAMES = ['open', 'search', 'hut_opened', 'dates_chosen', 'booking_sent', 'paid', 'map_kept', 'hazard_seen'];
const pick = (list, random) => list[Math.floor(random() * list.length)];
const VERSIONS = ['2.3.0', '2.4.0', '2.4.1', '2.5.0', '2.6.0', '2.7.0'];
const ZONES = ['Europe/Oslo', 'Europe/Berlin', 'America/St_Johns', 'Asia/Kathmandu', 'Pacific/Chatham'];

/** The same numbers every time. */
function seeded(seed) {
  let state = seed;
  return () => {
    state = (state + 0x6d2b79f5) | 0;
    let mixed = Math.imul(state ^ (state >>> 15), 1 | state);
    mixed = (mixed + Math.imul(mixed ^ (mixed >>> 7), 61 | mixed)) ^ mixed;
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4_294_967_296;
  };
}

const day = (at) => new Date(at).toISOString().slice(0, 10);
const moment = (at) => new Date(at).toISOString().slice(0, 23).replace('T', ' ');

/** Events of one day, of people who come back for some weeks. */
function eventsOf(start, count, people, random) {
  const events = [];
  while (events.length < count) {
    const person = 1 + Math.floor(random() * people);
    const own = seeded(person);
    const device = {
      client: pick(['hiker-ios', 'hiker-android', 'hiker-web'], own),
      platform: pick(['ios', 'android', 'web'], own),
      os: pick(['iOS 18', 'iOS 19', 'Android 15', 'Android 16'], own),
      version: VERSIONS[Math.min(5, Math.floor(own() * 4) + Math.floor((start / DAY_MS) % 3))],
      locale: pick(['nb-NO', 'de-DE', 'en-GB', 'ne-NP'], own),
      timeZone: pick(ZONES, own),
      country: pick(['NO', 'DE', 'CA', 'NP', 'NZ'], own),
    };
    let at = start + Math.floor(random() * (DAY_MS - 3_600_000));
    const visit = 1 + Math.floor(random() * 0xfffffffe);
    for (let left = 1 + Math.floor(random() * 8); left > 0 && events.length < count; left--) {
      at += 1_000 + Math.floor(random() * 60_000);
      events.push({
        person,
        at,
        name: NAMES[Math.floor(random() * random() * NAMES.length)],
        visit,
        properties: {
          ...device,
          region: pick(['north', 'middle', 'south'], random),
          nights: 1 + Math.floor(random() * 6),
          party: 1 + Math.floor(random() * 4),
          hut: `hut-${Math.floor(random() * 14)}`,
          quick: random() < 0.3,
        },
      });
    }
  }
  return events;
}

const COLUMNS = ['client', 'platform', 'os', 'version', 'locale', 'timeZone', 'country', 'region', 'nights', 'party', 'hut', 'quick'];

/** Ninety days of events, packed for the service, and as rows with indexes for SQL. */
/** @param withRows whether SQL is asked, too */
export async function fillEvents({ mysql, database, events, people, withRows }) {
  const table = `\`${database}\`.benchEvents`;
  await mysql.query(`CREATE TABLE ${table} (
    at DATETIME(3) NOT NULL, day DATE NOT NULL, person INT UNSIGNED NOT NULL, name VARCHAR(100) NOT NULL, visit INT UNSIGNED NOT NULL,
    client VARCHAR(40), platform VARCHAR(10), os VARCHAR(80), version VARCHAR(40), locale VARCHAR(35), timeZone VARCHAR(64), country CHAR(2),
    region VARCHAR(40), nights INT, party INT, hut VARCHAR(40), quick BOOLEAN)`);
  const start = Math.floor(Date.now() / DAY_MS - DAYS) * DAY_MS;
  const random = seeded(7);
  const firstSeen = new Map();
  let bytes = 0;
  let rows = 0;
  for (let i = 0; i < DAYS; i++) {
    const own = eventsOf(start + i * DAY_MS, Math.round(events / DAYS), people, random);
    rows += own.length;
    for (const { person, at } of own) if (!(firstSeen.get(person) <= at)) firstSeen.set(person, at);
    const packed = packDay(start + i * DAY_MS, own);
    await mysql.query(`INSERT INTO \`${database}\`._eventDays VALUES (?, 1, ?)`, [day(start + i * DAY_MS), packed.rows]);
    for (const [name, column] of packed.columns) {
      const deflated = deflateSync(column, { level: 3 });
      bytes += deflated.length;
      await mysql.query(`INSERT INTO \`${database}\`._eventColumns VALUES (?, ?, ?)`, [day(start + i * DAY_MS), name, deflated]);
    }
    for (let from = 0; withRows && from < own.length; from += 5_000)
      await mysql.query(`INSERT INTO ${table} VALUES ?`, [
        own
          .slice(from, from + 5_000)
          .map(({ person, at, name, visit, properties }) => [
            moment(at),
            day(at),
            person,
            name,
            visit,
            ...COLUMNS.map((column) => properties[column]),
          ]),
      ]);
  }
  const known = [...firstSeen].map(([person, at]) => [person, null, null, moment(at), null, 0, moment(Date.now())]);
  for (let from = 0; from < known.length; from += 5_000)
    await mysql.query(`INSERT INTO \`${database}\`._people (number, userId, became, firstAt, erasedAt, isGone, changedAt) VALUES ?`, [
      known.slice(from, from + 5_000),
    ]);
  await mysql.query(`INSERT INTO \`${database}\`._eventProperties VALUES ?`, [
    [
      ['open', '', '', moment(start), moment(start), 0],
      ...[
        ['nights', 'number'],
        ['party', 'number'],
        ['hut', 'text'],
        ['quick', 'boolean'],
      ].map(([name, type]) => ['open', name, type, moment(start), moment(start), 0]),
    ],
  ]);
  if (withRows) await mysql.query(`CREATE INDEX byName ON ${table} (name, day, version, person)`);
  if (withRows) await mysql.query(`CREATE INDEX byPerson ON ${table} (person, at, name)`);
  await mysql.query(`ANALYZE TABLE ${table}`);
  const [[size]] = await mysql.query(
    'SELECT data_length + index_length AS bytes FROM information_schema.tables WHERE table_schema = ? AND table_name = ?',
    [database, 'benchEvents'],
  );
  // People that were just added are read again for some seconds, in case a slow transaction is among them.
  await sleep(11_000);
  return { rows, bytes, rowBytes: withRows ? Number(size.bytes) : Number.NaN, table, start, withRows };
}

const timed = async (work) => {
  const began = performance.now();
  const result = await work();
  return { ms: performance.now() - began, result };
};

const STEPS = ['open', 'search', 'hut_opened', 'dates_chosen', 'booking_sent'];

/** The most that one SQL statement can do for each question. */
const SQL = {
  count: (table, from) => [
    `SELECT day, version, COUNT(*) AS n, COUNT(DISTINCT person) AS people FROM ${table} WHERE name = 'search' AND day >= ? GROUP BY day, version`,
    [day(from)],
  ],
  funnel: (table, from) => {
    // At each event, the latest start from which the steps before were done in order within a day.
    const reach = (i) =>
      i === 0
        ? `MAX(IF(name = '${STEPS[0]}', at, NULL)) OVER w`
        : `MAX(IF(name = '${STEPS[i]}' AND t${i - 1} >= at - INTERVAL 1 DAY, t${i - 1}, NULL)) OVER w`;
    const levels = STEPS.reduce(
      (inner, _, i) =>
        `(SELECT *, ${reach(i)} AS t${i} FROM ${inner} l${i} WINDOW w AS (PARTITION BY person ORDER BY at ROWS UNBOUNDED PRECEDING))`,
      `(SELECT person, at, name, timeZone FROM ${table} WHERE at >= ? AND name IN (${STEPS.map((name) => `'${name}'`).join(', ')}))`,
    );
    return [
      `SELECT timeZone, ${STEPS.map((_, i) => `COUNT(DISTINCT IF(t${i} IS NOT NULL, person, NULL)) AS s${i}`).join(', ')} FROM ${levels} f GROUP BY timeZone`,
      [moment(from)],
    ];
  },
  returns: (table) => [
    `SELECT cohort, week, COUNT(*) AS people FROM (SELECT DISTINCT e.person, f.cohort, TIMESTAMPDIFF(WEEK, f.cohort, e.day) AS week FROM ${table} e JOIN
     (SELECT person, MIN(day) - INTERVAL WEEKDAY(MIN(day)) DAY AS cohort FROM ${table} GROUP BY person) f ON f.person = e.person) x GROUP BY cohort, week`,
    [],
  ],
};

export async function questions({ mysql, member, params, filled, rounds }) {
  const until = new Date(filled.start + DAYS * DAY_MS).toISOString();
  const from = (days) => new Date(filled.start + (DAYS - days) * DAY_MS).toISOString();
  const asks = {
    count: () =>
      member.call(operations.insight.events, {
        params,
        body: { from: from(90), until, event: 'search', group: ['version'], measure: 'people', step: 'day' },
      }),
    funnel: () =>
      member.call(operations.insight.funnel, {
        params,
        body: { from: from(30), until, steps: STEPS.map((event) => ({ event })), by: ['timeZone'] },
      }),
    returns: () => member.call(operations.insight.returns, { params, body: { from: from(90), until, step: 'week' } }),
  };
  const spans = { count: 90, funnel: 30, returns: 90 };
  const results = {};
  for (const [name, ask] of Object.entries(asks)) {
    const cold = (await timed(ask)).ms;
    const warm = [];
    for (let round = 0; round < Math.max(3, rounds); round++) warm.push((await timed(ask)).ms);
    const [sql, values] = SQL[name](filled.table, filled.start + (DAYS - spans[name]) * DAY_MS);
    const bare = filled.withRows ? (await timed(() => mysql.query(sql, values))).ms : Number.NaN;
    results[name] = { cold, warm: median(warm), bare };
  }
  return results;
}

/** Batches of a hundred events, beside the same rows as one insert in a transaction. */
export async function eventIntake({ mysql, database, send, service, member, params, key, rounds }) {
  const reply = JSON.parse(
    await send(
      {
        url: `${service.address}/app/v1/devices/bench-phone-1`,
        method: 'PUT',
        headers: { 'orchard-key': key, 'content-type': 'application/json' },
        body: JSON.stringify({
          platform: 'ios',
          appVersion: '2.5.0',
          os: 'iOS 19',
          locale: 'nb-NO',
          timeZone: 'Europe/Oslo',
          permission: 'granted',
        }),
      },
      201,
    ),
  );
  await member.call(operations.events.settings, { params });
  const table = `\`${database}\`.benchIntake`;
  await mysql.query(`CREATE TABLE ${table} LIKE \`${database}\`._events`);
  const { createPool } = await import('mysql2/promise');
  const pool = createPool({ ...mysql.benchConfig, connectionLimit: 8 });
  const properties = { hut: 'cold-tarn', nights: 2, party: 3, quick: true, region: 'north' };
  let number = 0;
  const headers = {
    'orchard-key': key,
    'orchard-device': 'bench-phone-1',
    'orchard-device-secret': reply.secret,
    'content-type': 'application/json',
  };
  const batch = () =>
    Array.from({ length: 100 }, () => ({
      id: `b-${number++}`,
      name: NAMES[number % 8],
      at: new Date().toISOString(),
      visit: 'v1',
      properties,
    }));
  const own = JSON.stringify(properties);
  return compare({
    rounds,
    count: 300,
    width: 8,
    ours: () =>
      send(
        {
          url: `${service.address}/app/v1/events`,
          method: 'POST',
          headers,
          body: JSON.stringify({ sentAt: new Date().toISOString(), events: batch() }),
        },
        200,
      ),
    bare: async () => {
      const connection = await pool.getConnection();
      try {
        await connection.query('START TRANSACTION');
        const now = moment(Date.now());
        const rows = batch().map(({ id, name }) => [
          now,
          now,
          1,
          name,
          createHash('md5').update(id).digest().readUInt32LE(),
          1,
          null,
          'bench-phone-1',
          own,
        ]);
        await connection.query(
          `INSERT INTO ${table} (at, receivedAt, person, name, visit, context, userId, deviceId, properties) VALUES ?`,
          [rows],
        );
        await connection.query('COMMIT');
      } finally {
        connection.release();
      }
    },
  });
}
