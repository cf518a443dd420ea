// Lists by an object path, text search, and tables of other servers, each against its nearest plain counterpart in the same run.
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import { startPostgresql } from '@orchard/simulators';
import { compare } from './measure.mjs';

const list = (service, collection, query) =>
  `${service.address}/app/v1/data/${collection}?${new URLSearchParams({ limit: '20', ...query })}`;

/** Fills a collection by one statement; `columns` are SQL over the number `seq`. */
async function fill(mysql, database, table, columns, rows) {
  const step = 50_000;
  for (let from = 0; from < rows; from += step)
    await mysql.query(
      `INSERT INTO \`${database}\`.\`${table}\` (id, createdAt, updatedAt, version, _by, ${Object.keys(columns).join(', ')})
       SELECT CONCAT('r', LPAD(seq, 9, '0')), UTC_TIMESTAMP(3), UTC_TIMESTAMP(3), 1, 'bench', ${Object.values(columns).join(', ')} FROM seq_${from}_to_${from + step - 1}`,
    );
}

/** A list of twenty by what lies inside an object, beside one by a field that holds the same; both have an index. */
export async function byObjectPath({ service, send, serverHeaders, member, params, mysql, database, rows, rounds }) {
  const body = {
    name: 'repairs',
    fields: [
      { name: 'meta', type: 'object' },
      { name: 'service', type: 'text' },
    ],
  };
  await member.call(operations.collections.create, { params, body });
  const service_ = "CONCAT('service-', seq % 500)";
  await fill(mysql, database, 'repairs', { meta: `JSON_OBJECT('service', ${service_}, 'year', 2000 + seq % 30)`, service: service_ }, rows);
  for (const field of ['meta.service', 'service'])
    await member.call(operations.collections.addIndex, { params: { ...params, collection: 'repairs' }, body: { fields: [field] } });
  const asked = (field) => (i) =>
    send({ url: list(service, 'repairs', { filter: `${field} = 'service-${i % 500}'` }), headers: serverHeaders }, 200);
  return compare({ rounds, count: 1_000, width: 32, ours: asked('meta.service'), bare: asked('service') });
}

const WORDS = [
  'ridge',
  'bridge',
  'water',
  'stove',
  'thaw',
  'cairn',
  'ford',
  'rockfall',
  'drying',
  'kindling',
  'slope',
  'porch',
  'radio',
  'battery',
  'pass',
  'scree',
];

/** The twenty best answers among many texts, beside the same MATCH … AGAINST through bare Express. */
export async function textSearch({ service, bareAddress, send, serverHeaders, member, params, mysql, database, rows, rounds }) {
  await member.call(operations.collections.create, {
    params,
    body: {
      name: 'reports',
      fields: [
        { name: 'title', type: 'text' },
        { name: 'body', type: 'text' },
      ],
    },
  });
  const word = (salt) => `ELT(1 + (seq * ${salt} + seq DIV ${salt}) % ${WORDS.length}, ${WORDS.map((one) => `'${one}'`).join(', ')})`;
  const sentence = [7, 11, 13, 17, 19].map(word).join(", ' ', ");
  // A word of its own in every five hundredth text, so that a search finds what somebody looks for.
  await fill(
    mysql,
    database,
    'reports',
    { title: `CONCAT(${word(3)}, ' number ', seq)`, body: `CONCAT(${sentence}, ' place', seq % 2000)` },
    rows,
  );
  await member.call(operations.collections.addIndex, {
    params: { ...params, collection: 'reports' },
    body: { fields: ['title', 'body'], search: true },
  });
  const words = (i) => `${WORDS[i % WORDS.length]} place${(i * 37) % 2000}`;
  const ours = (i) => send({ url: list(service, 'reports', { filter: `search('${words(i)}')` }), headers: serverHeaders }, 200);
  const bare = (i) => send({ url: `${bareAddress}/search?${new URLSearchParams({ words: words(i).replaceAll(/(\w+)/g, '+$1') })}` }, 200);
  const [ourText, bareText] = [JSON.parse(await ours(5)).items.length, JSON.parse(await bare(5)).items.length];
  if (ourText !== bareText) throw new Error(`Not the same: ${ourText} and ${bareText} found.`);
  return compare({ rounds, count: 400, width: 32, ours, bare });
}

/** A list of twenty of a PostgreSQL table, beside the same SQL by its driver through bare Express. */
export async function outsideTable({ service, bareAddress, send, serverHeaders, member, params, port, rows, rounds }) {
  const directory = mkdtempSync(join(tmpdir(), 'orchard-bench-postgresql-'));
  const server = await startPostgresql(directory, port, 'bench');
  try {
    const { default: pg } = await import('pg');
    const client = new pg.Client({ host: '127.0.0.1', port, user: 'postgres', password: 'bench', database: 'postgres' });
    await client.connect();
    await client.query(
      `CREATE TABLE members AS SELECT n AS member_no, 'Member ' || n AS name, (ARRAY['north', 'middle', 'south'])[1 + n % 3] AS region, n % 500 AS nights, now() AS changed FROM generate_series(1, ${rows}) n`,
    );
    await client.query('ALTER TABLE members ADD PRIMARY KEY (member_no); CREATE INDEX ON members (nights, member_no); ANALYZE members');
    await client.end();
    const access = { kind: 'postgresql', host: '127.0.0.1', port, database: 'postgres', user: 'postgres', password: 'bench', tls: false };
    await member.call(operations.outside.addServer, { params, body: { name: 'association', ...access } });
    await member.call(operations.outside.addTable, {
      params: { ...params, collection: 'members' },
      body: { server: 'association', table: 'public.members', key: 'member_no' },
    });
    const ours = (i) => send({ url: list(service, 'members', { filter: `nights = ${i % 500}` }), headers: serverHeaders }, 200);
    const bare = (i) => send({ url: `${bareAddress}/members?nights=${i % 500}&port=${port}` }, 200);
    return await compare({ rounds, count: 1_000, width: 32, ours, bare });
  } finally {
    await server.stop();
    server.forget();
    rmSync(directory, { recursive: true, force: true });
  }
}
