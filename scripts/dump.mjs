// npm run dump -- <data directory of a running demo> <name>: keeps its databases, thinned out, for the test that old databases
// open in new versions. Run it with the version whose shape is to be kept.
import { execFileSync } from 'node:child_process';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { root } from './prepare.mjs';

const [data, name] = process.argv.slice(2);
if (!data || !/^\d{4}_[a-z_]+$/.test(name ?? '')) {
  process.stderr.write('Usage: npm run dump -- <data directory of a running demo> <0012_name>\n');
  process.exit(2);
}
/** Tables that would make a dump large, with the rows that are kept of them. */
const FORTY = ['_requests', '_requestMinutes', '_requestCells', '_requestHours', '_requestDays', '_logEntries'];
const EVENTS = ['_eventColumns', '_people', '_personDevices'];
const THINNED = { ...Object.fromEntries([...FORTY, ...EVENTS].map((table) => [table, 40])), _feed: 80 };

const demo = JSON.parse(readFileSync(join(data, 'demo.json'), 'utf8'));
const { port, password } = JSON.parse(readFileSync(join(data, 'mariadb.json'), 'utf8'));
const access = ['-h127.0.0.1', `-P${port}`, '-uorchard', `-p${password}`];
const run = (program, words) => execFileSync(program, [...access, ...words], { maxBuffer: 2 ** 30 }).toString();
/** Rows as arrays of text. */
const rows = (sql) =>
  run('mariadb', ['--batch', '--skip-column-names', '-e', sql])
    .split('\n')
    .filter(Boolean)
    .map((line) => line.split('\t'));

async function api(method, path, headers, body) {
  const reply = await fetch(`${demo.url}${path}`, {
    method,
    headers: { ...headers, 'content-type': 'application/json' },
    ...(body ? { body: JSON.stringify(body) } : {}),
  });
  if (!reply.ok) throw new Error(await reply.text());
  return reply.json();
}

const session = await api('POST', '/app/v1/sessions', { 'orchard-key': demo.clientKey }, demo.user);
const scheduled = await api(
  'POST',
  '/app/v1/notifications',
  { 'orchard-key': demo.serverKey },
  { title: 'In the far future', body: 'Still to come', audience: { users: [session.user.id] }, start: { at: '2090-01-01T00:00:00.000Z' } },
);
const environments = rows(`SELECT id, app, name FROM orchard.environments WHERE app = '${demo.app}'`).map(([id, app, of]) => ({
  id,
  app,
  name: of,
}));
const databases = ['orchard', 'orchard_installation', ...environments.map(({ id }) => `orchard_${id}`)];
const dump = (...words) => run('mariadb-dump', ['--single-transaction', ...words]);
const tables = rows(
  `SELECT TABLE_SCHEMA, TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA IN (${databases.map((one) => `'${one}'`).join()})`,
).map(([db, table]) => ({ db, name: table }));
const thinned = tables.filter(({ name: table }) => Object.hasOwn(THINNED, table));
const parts = [
  dump('--databases', ...databases, ...thinned.map(({ db, name: table }) => `--ignore-table=${db}.${table}`)),
  ...thinned.map(({ db, name: table }) => `USE \`${db}\`;\n${dump(db, table, `--where=TRUE LIMIT ${THINNED[table]}`)}`),
];
const counts = {};
for (const { db, name: table } of tables) {
  const [[n]] = rows(`SELECT COUNT(*) FROM \`${db}\`.\`${table}\``);
  // Counted before the dump was thinned; these tables also lose old rows by themselves.
  if (!Object.hasOwn(THINNED, table) && table !== '_migrations') counts[`${db}.${table}`] = Number(n);
}

const folder = join(root, 'packages/service/test/dumps', name);
mkdirSync(folder, { recursive: true });
writeFileSync(join(folder, 'databases.sql.gz'), gzipSync(parts.join('\n'), { level: 9 }));
const facts = {
  secretKey: readFileSync(join(data, 'secret.key'), 'utf8').trim(),
  environments,
  clientKey: demo.clientKey,
  serverKey: demo.serverKey,
  member: demo.member,
  user: demo.user,
  refreshToken: session.refreshToken,
  scheduled: scheduled.id,
  counts,
};
writeFileSync(join(folder, 'facts.json'), `${JSON.stringify(facts, null, 2)}\n`);
process.stdout.write(`${folder}\n`);
