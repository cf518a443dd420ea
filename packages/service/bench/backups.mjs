// A backup beside `mariadb-dump | gzip` of the same database, what calls notice of it, and restoring beside loading that dump.
import { execFile } from 'node:child_process';
import { statSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { promisify } from 'node:util';
import { operations } from '@orchard/contract';

const run = promisify(execFile);
const own = operations.backups;
/** About what one record takes in its table. */
const ROW_BYTES = 560;
const CHUNK = 100_000;
const CALLS_A_SECOND = 40;
const CALM_MS = 10_000;
/** After the filling, until MariaDB has written what it put off. */
const SETTLE_MS = 60_000;
const WORDS =
  "ELT(1 + FLOOR(RAND() * 16), 'ridge', 'tarn', 'snow', 'cairn', 'bothy', 'scree', 'col', 'gully', 'heather', 'spring', 'footbridge', 'signpost', 'fog', 'larch', 'boulder', 'path')";

/** A collection of its own, filled beside its triggers: nobody waits for its change feed. */
async function fill({ mysql, database, member, params, gigabytes }) {
  await member.call(operations.collections.create, {
    params,
    body: {
      name: 'readings',
      fields: [
        { name: 'station', type: 'text' },
        { name: 'note', type: 'text' },
        { name: 'celsius', type: 'number' },
        { name: 'bunks', type: 'integer' },
        { name: 'at', type: 'time' },
        { name: 'position', type: 'place' },
        { name: 'more', type: 'object' },
      ],
    },
  });
  const table = `\`${database}\`.\`readings\``;
  const [[{ name: trigger }]] = await mysql.query(
    "SELECT TRIGGER_NAME AS name FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = ? AND EVENT_OBJECT_TABLE = 'readings' AND EVENT_MANIPULATION = 'INSERT'",
    [database],
  );
  await mysql.query(`DROP TRIGGER \`${database}\`.\`${trigger}\``);
  await mysql.query(`ALTER TABLE ${table} ADD INDEX stationAt (station(191), at)`);
  const rows = Math.round((gigabytes * 1e9) / ROW_BYTES / CHUNK) * CHUNK;
  const note = `CONCAT_WS(' ', ${Array.from({ length: 36 }, () => WORDS).join(', ')})`;
  for (let from = 0; from < rows; from += CHUNK)
    await mysql.query(
      `INSERT INTO ${table} (id, createdAt, updatedAt, version, ownerId, station, note, celsius, bunks, at, position, more)
       SELECT CONCAT('01a2', LPAD(HEX(seq + ${from}), 4, '0'), '-', LPAD(HEX(seq + ${from}), 8, '0'), '-', UUID_SHORT()), NOW(3), NOW(3), 1, NULL,
         CONCAT('station ', seq % 400), ${note}, ROUND(RAND() * 40 - 10, 2), seq % 60, NOW(3) - INTERVAL seq SECOND, POINT(RAND() * 20, 40 + RAND() * 20),
         JSON_OBJECT('wind', ROUND(RAND() * 30, 1), 'from', ${WORDS})
       FROM seq_1_to_${CHUNK}`,
    );
  const [[{ bytes }]] = await mysql.query('SELECT SUM(DATA_LENGTH) AS bytes FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?', [
    database,
  ]);
  return { rows, bytes: Number(bytes) };
}

/** The p95 of reads at a steady pace while `work` runs. */
async function p95While(read, work) {
  let over = false;
  const ended = work.finally(() => {
    over = true;
  });
  const took = [];
  const calls = [];
  for (let i = 0; !over; i++) {
    const started = performance.now();
    calls.push(read(i).then(() => took.push(performance.now() - started)));
    await sleep(1000 / CALLS_A_SECOND);
  }
  await Promise.all(calls);
  await ended;
  took.sort((a, b) => a - b);
  return took[Math.floor(took.length * 0.95)];
}

const timed = async (work) => {
  const started = performance.now();
  await work();
  return (performance.now() - started) / 1000;
};

/**
 * @param data a directory with room for twice the dump
 * @param confirm proves anew who the member is: restoring asks for it, and filling and loading take longer than that holds
 */
export async function backups({ mysql, database, member, params, read, gigabytes, databaseUrl, data, confirm }) {
  const { rows, bytes } = await fill({ mysql, database, member, params, gigabytes });
  await member.call(own.changeSettings, { params, body: { schedule: null, keep: { days: 7, weeks: 0, months: 0 }, prove: false } });
  const { hostname, port, password } = new URL(databaseUrl);
  const access = `-h ${hostname} -P ${port} -u orchard`;
  const dump = join(data, 'dump.sql.gz');
  const shell = (command) => run('bash', ['-c', `set -o pipefail; ${command}`], { env: { ...process.env, MYSQL_PWD: password } });
  await sleep(SETTLE_MS);
  const calm = await p95While(read, sleep(CALM_MS));

  const dumping = [];
  const whileDumped = await p95While(
    read,
    timed(() => shell(`mariadb-dump ${access} --single-transaction --quick --skip-triggers ${database} | gzip > ${dump}`)).then((s) =>
      dumping.push(s),
    ),
  );
  const ended = async (id) => {
    for (;;) {
      const now = await member.call(own.read, { params: { ...params, backup: id } });
      if (now.state === 'failed') throw new Error(now.problem);
      if (now.state === 'done') return now;
      await sleep(100);
    }
  };
  let backup;
  const making = [];
  const whileMade = await p95While(
    read,
    timed(async () => {
      backup = await ended((await member.call(own.make, { params, body: {} })).id);
    }).then((s) => making.push(s)),
  );
  const again = await timed(async () => ended((await member.call(own.make, { params, body: {} })).id));

  const line = (name, text) => console.log(`${name.padEnd(34)}${text}`);
  const gb = (bytes / 1e9).toFixed(2);
  line(
    `backup of ${gb} GB`,
    `${making[0].toFixed(0)} s beside mariadb-dump | gzip ${dumping[0].toFixed(0)} s: ${(dumping[0] / making[0]).toFixed(2)} (aim: 1.00)${making[0] <= dumping[0] ? '' : '  missed'}`,
  );
  line(
    '',
    `${rows.toLocaleString('en-GB')} records; stored ${(backup.newBytes / 1e6).toFixed(0)} MB, the dump ${(statSync(dump).size / 1e6).toFixed(0)} MB; the next one ${again.toFixed(0)} s`,
  );
  line(
    'calls meanwhile',
    `p95 ${whileMade.toFixed(1)} ms, ${calm.toFixed(1)} without: ${(whileMade / calm).toFixed(2)} times (aim: 1.5)${whileMade <= 1.5 * calm ? '' : '  missed'}; while dumped ${whileDumped.toFixed(1)} ms`,
  );
  await mysql.query('CREATE DATABASE bench_loaded');
  const loading = await timed(() => shell(`gunzip -c ${dump} | mariadb ${access} bench_loaded`));
  await mysql.query('DROP DATABASE bench_loaded');
  await confirm();
  const restoring = await timed(async () => {
    const { id } = await member.call(own.restore, { params: { ...params, backup: backup.id }, body: { into: 'restored' } });
    for (;;) {
      const now = await member.call(own.readRestore, { params: { ...params, restore: id } });
      if (now.state === 'failed') throw new Error(now.problem);
      if (now.state === 'done') return;
      await sleep(100);
    }
  });

  line(
    'restore',
    `${restoring.toFixed(0)} s beside loading the dump ${loading.toFixed(0)} s: ${(loading / restoring).toFixed(2)} (aim: 1.50)${loading / restoring >= 1.5 ? '' : '  missed'}`,
  );
}

/** Moves a database in use to a second server: how long writes are held, and what the longest write waited. */
export async function moving({ mysql, database, member, params, send, service, keyed, gigabytes }) {
  const { bytes } = await fill({ mysql, database, member, params, gigabytes });
  let over = false;
  let [writes, failed, longest] = [0, 0, 0];
  const lane = async (name) => {
    for (let i = 0; !over; i++) {
      const started = performance.now();
      const body = JSON.stringify({ name: `Hut ${i}`, region: 'north', bunks: i % 60, open: true });
      const url = `${service.address}/app/v1/data/huts/${name}-${i % 100}`;
      await send({ url, method: 'PUT', headers: { ...keyed, 'content-type': 'application/json' }, body }, i < 100 ? 201 : 200).catch(
        () => failed++,
      );
      longest = Math.max(longest, performance.now() - started);
      writes++;
      await sleep(20);
    }
  };
  const lanes = ['a', 'b', 'c', 'd'].map(lane);
  const started = performance.now();
  const { id } = await member.call(operations.moves.begin, { params, body: { server: 'second' } });
  let move;
  do {
    await sleep(200);
    move = await member.call(operations.moves.read, { params: { ...params, move: id } });
  } while (!move.endedAt);
  const took = (performance.now() - started) / 1000;
  over = true;
  await Promise.all(lanes);
  if (move.state !== 'done') throw new Error(move.problem);
  console.log(
    `${`moving ${(bytes / 1e9).toFixed(2)} GB in use`.padEnd(34)}writes held for ${move.pauseMs} ms (aim: under 2,000)${move.pauseMs < 2_000 ? '' : '  missed'}; ${took.toFixed(0)} s in all\n` +
      `${' '.repeat(34)}${writes} writes meanwhile, ${failed} failed, the longest took ${longest.toFixed(0)} ms; ${move.caughtUp} changes brought over`,
  );
}
