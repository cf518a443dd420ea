// Counters on one record and import by key, each against bare SQL on tables of the same shape in the same run.
import { randomBytes } from 'node:crypto';
import { operations } from '@orchard/contract';
import { uuidv7 } from '@orchard/core';
import { compare, median } from './measure.mjs';

/**
 * Thirty-two writers on one record, beside the same statement on a record of the same table through bare Express, and beside
 * plain updates without HTTP and without a change feed. @returns with counts that were lost
 */
export async function counters({ service, bareAddress, send, serverHeaders, pool, mysql, table, rounds }) {
  const [id, other] = ['counted-hut', 'other-hut'];
  for (const name of [id, other])
    await send(
      {
        url: `${service.address}/app/v1/data/huts/${name}`,
        method: 'PUT',
        headers: { ...serverHeaders, 'content-type': 'application/json' },
        body: JSON.stringify({ name, bunks: 0 }),
      },
      201,
    );
  let added = 0;
  const body = JSON.stringify({ _add: { bunks: 1 } });
  const ours = () => {
    added++;
    return send(
      {
        url: `${service.address}/app/v1/data/huts/${id}`,
        method: 'PATCH',
        headers: { ...serverHeaders, 'content-type': 'application/json' },
        body,
      },
      200,
    );
  };
  await mysql.query('CREATE TABLE IF NOT EXISTS bareCounter (id VARCHAR(64) PRIMARY KEY, n INT NOT NULL) ENGINE=InnoDB');
  await mysql.query("REPLACE INTO bareCounter VALUES ('one', 0)");
  const plain = () => pool.query("UPDATE bareCounter SET n = n + 1 WHERE id = 'one'");
  const bare = () =>
    send(
      { url: `${bareAddress}/data/huts/${other}`, method: 'PATCH', headers: { 'content-type': 'application/json' }, body: '{"bunks":1}' },
      200,
    );
  const work = { rounds, count: 400, width: 32 };
  const result = await compare({ ...work, ours, bare });
  const besidePlain = await compare({ ...work, rounds: Math.min(rounds, 3), ours, bare: plain });
  const [[{ bunks }]] = await mysql.query(`SELECT bunks FROM ${table} WHERE id = ?`, [id]);
  return { ...result, lost: added - bunks, plain: besidePlain };
}

const CHUNK = 1_000;
const seconds = async (work) => {
  const started = process.hrtime.bigint();
  await work();
  return Number(process.hrtime.bigint() - started) / 1e9;
};

/** A file of which half the rows name a record, beside INSERT … ON DUPLICATE KEY UPDATE into a twin of the collection, feed rows and all. */
export async function importByKey({ member, params, mysql, database, rows, rounds }) {
  const fields = [
    { name: 'code', type: 'text', unique: true },
    { name: 'name', type: 'text' },
    { name: 'bunks', type: 'integer' },
  ];
  for (const name of ['keyed', 'keyedBare']) await member.call(operations.collections.create, { params, body: { name, fields } });
  const write = async (table, from, count, round, suffix, onDuplicate) => {
    const now = new Date();
    for (let at = from; at < from + count; at += CHUNK) {
      const some = Array.from({ length: Math.min(CHUNK, from + count - at) }, (_, n) => at + n);
      const values = some.map((i) => [
        uuidv7(now.getTime(), randomBytes(10)),
        now,
        now,
        1,
        null,
        'bench',
        `${round}-${i}`,
        `Hut ${i}`,
        (i + suffix) % 60,
      ]);
      await mysql.query(
        `INSERT INTO \`${database}\`.\`${table}\` (id, createdAt, updatedAt, version, ownerId, _by, code, name, bunks) VALUES ?${onDuplicate ? ' ON DUPLICATE KEY UPDATE version = version + 1, updatedAt = VALUES(updatedAt), _by = VALUES(_by), name = VALUES(name), bunks = VALUES(bunks)' : ''}`,
        [values],
      );
    }
  };
  const ours = async (round) => {
    const ndjson = Array.from(
      { length: rows },
      (_, i) => `${JSON.stringify({ code: `${round}-${i}`, name: `Hut ${i}`, bunks: (i + 1) % 60 })}\n`,
    ).join('');
    const reply = await member.open(operations.collections.importRecords, {
      params: { ...params, collection: 'keyed' },
      query: { format: 'ndjson', key: 'code' },
      raw: ndjson,
    });
    const { byKey, rejects } = await reply.json();
    if (byKey.created !== rows / 2 || byKey.changed !== rows / 2)
      throw new Error(`Not as expected: ${JSON.stringify({ byKey, rejects: rejects.slice(0, 2) })}`);
  };
  const all = [];
  for (let round = 0; round <= rounds; round++) {
    for (const table of ['keyed', 'keyedBare']) await write(table, 0, rows / 2, round, 0, false);
    const took = {
      ours: rows / (await seconds(() => ours(round))),
      bare: rows / (await seconds(() => write('keyedBare', 0, rows, round, 1, true))),
    };
    // The first round warms up.
    if (round > 0) all.push(took);
  }
  const ratios = all.map((one) => one.ours / one.bare).sort((a, b) => a - b);
  return { ratio: median(ratios), ours: median(all.map((one) => one.ours)), bare: median(all.map((one) => one.bare)), spread: ratios };
}
