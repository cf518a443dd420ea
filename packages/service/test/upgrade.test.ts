/** Databases that earlier versions left behind open in this one with all they hold. */
import { execFileSync } from 'node:child_process';
import { readdirSync, readFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { gunzipSync } from 'node:zlib';
import { operations } from '@orchard/contract';
import pino from 'pino';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { readConfig } from '../src/platform/config.js';
import { openDatabase } from '../src/platform/database/connection.js';
import { type RunningService, startService } from '../src/service.js';
import { scratchDirectory } from './scratch.js';
import { callApp, memberClient } from './support.js';

/** Tables of the service's own whose rows stay as they were. */
const HELD = ['_users', '_devices', '_segments', '_notifications', '_deliveries', '_topics', '_files', '_audit'];
const DUMPS = fileURLToPath(new URL('./dumps', import.meta.url));
type Facts = {
  secretKey: string;
  environments: { id: string; app: string; name: string }[];
  clientKey: string;
  serverKey: string;
  member: { email: string; password: string };
  user: { email: string; password: string };
  refreshToken: string;
  /** A notification that is to start in the far future. */
  scheduled: string;
  /** How many rows each `database.table` has. */
  counts: Record<string, number>;
};

/** Loads a dump under another name, so that several fit on one server. */
function load(dump: string, name: string): Facts {
  const sql = gunzipSync(readFileSync(`${DUMPS}/${dump}/databases.sql.gz`))
    .toString()
    .replaceAll(/`orchard(_\w+)?`/g, (_, part = '') => `\`${name}${part}\``);
  const { hostname, port, username, password } = new URL(inject('databaseUrl'));
  execFileSync('mariadb', [`-h${hostname}`, `-P${port}`, `-u${username}`, `-p${password}`], { input: sql });
  return JSON.parse(readFileSync(`${DUMPS}/${dump}/facts.json`, 'utf8'));
}

/** What was scheduled then is due by now: it stays scheduled, so that nothing of it changes while it is compared. */
async function postpone(url: string): Promise<void> {
  const database = openDatabase(url, { connections: 1 });
  const tables = await database.runRows<{ name: string }>(
    `SELECT CONCAT('\`', TABLE_SCHEMA, '\`.\`', TABLE_NAME, '\`') AS name FROM information_schema.TABLES
     WHERE TABLE_SCHEMA LIKE '${new URL(url).pathname.slice(1)}%' AND TABLE_NAME IN ('jobs', '_jobs')`,
  );
  for (const { name } of tables) await database.run(`UPDATE ${name} SET runAt = '2099-01-01' WHERE kind = 'start-notification'`, []);
  await database.close();
}

type Digest = { sql: string; before: string | null };

/** What every table that was filled by the team and its users holds, over the columns of then. Hashes of passwords have moved since. */
async function digestTables(url: string): Promise<Digest[]> {
  const database = openDatabase(url, { connections: 1 });
  const columns = await database.runRows<{ of: string; part: string; names: string }>(
    `SELECT TABLE_SCHEMA AS of, TABLE_NAME AS part, GROUP_CONCAT(COLUMN_NAME ORDER BY ORDINAL_POSITION) AS names
     FROM information_schema.COLUMNS WHERE TABLE_SCHEMA LIKE '${new URL(url).pathname.slice(1)}\\_%' AND IS_GENERATED = 'NEVER'
     AND COLUMN_NAME <> 'passwordHash' AND (TABLE_NAME NOT LIKE '\\_%' OR TABLE_NAME IN (${HELD.map((table) => `'${table}'`).join()})) GROUP BY of, part`,
  );
  const digests: Digest[] = [];
  for (const { of, part, names } of columns) {
    const values = names.split(',').map((column) => `COALESCE(HEX(\`${column}\`), '-')`);
    const sql = `SELECT CONCAT(COUNT(*), ' ', HEX(SUM(CAST(CONV(LEFT(SHA2(CONCAT_WS(',', ${values.join()}), 256), 12), 16, 10) AS DECIMAL(20)))))
      AS digest FROM \`${of}\`.\`${part}\``;
    digests.push({ sql, before: (await database.runRows<{ digest: string }>(sql))[0]?.digest ?? null });
  }
  await database.close();
  return digests;
}

describe.each(readdirSync(DUMPS).map((dump, i) => [dump, `upgrade${i}`]))('the databases of %s', (dump, name) => {
  let facts: Facts;
  let service: RunningService;
  let digests: Digest[];
  const call = (method: string, path: string, options: Parameters<typeof callApp>[3]) => callApp(service.address, method, path, options);

  beforeAll(async () => {
    facts = load(dump, name);
    const url = new URL(inject('databaseUrl'));
    url.pathname = `/${name}`;
    await postpone(url.toString());
    digests = await digestTables(url.toString());
    const settings = {
      ORCHARD_PORT: '0',
      ORCHARD_DATA: scratchDirectory(name),
      ORCHARD_DATABASE_URL: url.toString(),
      ORCHARD_SECRET_KEY: facts.secretKey,
    };
    service = await startService(readConfig(settings), pino({ level: 'silent' }));
  });
  afterAll(() => service?.stop());

  it('hold every row they held', async () => {
    const { database } = service.parts;
    const lost: string[] = [];
    // These two moved into the databases of their environments.
    const moved = ['gateways', 'gatewayMappings', 'jobs'];
    for (const [table, count] of Object.entries(facts.counts)) {
      const [of, part] = table.replace(/^orchard/, name).split('.') as [string, string];
      if (of === name && moved.includes(part)) continue;
      const [row] = await database.runRows<{ n: number }>(`SELECT COUNT(*) AS n FROM \`${of}\`.\`${part}\``);
      if (Number(row?.n) < count) lost.push(`${table}: ${count}, now ${row?.n}`);
    }
    expect(lost).toEqual([]);
  });

  it('hold it unchanged, record by record', async () => {
    expect(digests.length).toBeGreaterThan(8);
    for (const { sql, before } of digests) {
      const [row] = await service.parts.database.runRows<{ digest: string }>(sql);
      expect(row?.digest, sql).toBe(before);
    }
  });

  it('let keys, passwords and refresh tokens of before in', async () => {
    const { clientKey, serverKey, user, member, refreshToken } = facts;
    const records = await call('GET', '/data/huts?limit=200', { key: serverKey });
    expect(records.body.items.length).toBeGreaterThan(10);
    expect((await call('POST', '/sessions', { key: clientKey, body: user })).status).toBe(201);
    expect((await call('POST', '/sessions', { key: clientKey, body: { refreshToken } })).status).toBe(201);
    const { items } = await (await memberClient(service.address, member)).call(operations.members.list, {});
    expect(items.filter(({ joinedAt }) => joinedAt === null)).toHaveLength(facts.counts['orchard.memberInvitations'] ?? 0);
  });

  it('keep gateways with their credentials, and what was to be sent later', async () => {
    const owner = await memberClient(service.address, facts.member);
    const params = { app: 'quillfell-hiker', environment: 'dev' };
    const { items } = await owner.call(operations.gateways.list, { params });
    expect(items.map(({ name: gateway }) => gateway)).toContain('web-push');
    expect(items.length).toBeGreaterThanOrEqual(5);
    const environment = await service.parts.directory.environment('quillfell-hiker', 'dev');
    for (const { name: gateway } of items) expect(await service.parts.gateways.open(environment, gateway), gateway).not.toBeNull();
    const { items: jobs } = await owner.call(operations.jobs.list, { params, query: { filter: `subject = '${facts.scheduled}'` } });
    expect(jobs).toMatchObject([{ kind: 'start-notification', state: 'waiting' }]);
  });
});
