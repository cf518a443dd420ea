/** A backup that an earlier version made: its tables as they were then, from a database of that version. */
import { execFileSync } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { gunzipSync } from 'node:zlib';
import { ARCHIVE_FORMAT, type ArchiveManifest, operations } from '@orchard/contract';
import mysql from 'mysql2/promise';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { unsealEnvironmentKeys } from '../src/platform/access/environmentKeys.js';
import { newestMigration } from '../src/platform/database/migrate.js';
import { Archive } from '../src/setup/backups/archive.js';
import { archiveTables } from '../src/setup/backups/archiving.js';
import { DirectoryPlace } from '../src/setup/backups/places/directory.js';
import { BackupKey, CIPHER } from '../src/setup/backups/sealing.js';
import { callApp, eventually, startTestService, type TestService } from './support.js';

const DUMP = fileURLToPath(new URL('./dumps/0015_before_factors', import.meta.url));
const HEX = 'e7'.repeat(32);
const OF = { app: 'quillfell-hiker', environment: 'dev' };
const facts = JSON.parse(readFileSync(`${DUMP}/facts.json`, 'utf8'));
const { id: environmentId } = facts.environments.find(({ name }: { name: string }) => name === OF.environment);
let test: TestService;

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'), { backupKeys: [HEX] });
  const sql = gunzipSync(readFileSync(`${DUMP}/databases.sql.gz`))
    .toString()
    .replaceAll(/`orchard(_\w+)?`/g, (_, part = '') => `\`older${part}\``);
  const { hostname, port, username, password } = new URL(inject('databaseUrl'));
  execFileSync('mariadb', [`-h${hostname}`, `-P${port}`, `-u${username}`, `-p${password}`], { input: sql });
});
afterAll(() => test?.stop());

/** What the installation held of the environment then. */
async function setupLines(): Promise<string[]> {
  const connection = await mysql.createConnection({ uri: inject('databaseUrl') });
  const rows = async (table: string, by = 'environmentId') =>
    (await connection.query<mysql.RowDataPacket[]>(`SELECT * FROM older.\`${table}\` WHERE ${by} = ?`, [environmentId]))[0];
  const [environment] = await rows('environments', 'id');
  const keys = unsealEnvironmentKeys(Buffer.from(facts.secretKey, 'hex'), environmentId, environment?.sealedKeys);
  const lines = [
    {
      environment: {
        mode: environment?.mode,
        widening: true,
        sealedFor: environmentId,
        keys: { data: keys.data.toString('hex'), tokens: keys.tokens.toString('hex') },
      },
    },
    ...(await rows('clients')).map(({ environmentId: _, ...client }) => ({ client })),
    ...(await rows('keys')).map(({ environmentId: _, sealed, ...key }) => ({ key: { ...key, key: sealed && facts.clientKey } })),
  ];
  await connection.end();
  return lines.map((line) => JSON.stringify(line));
}

async function makeBackup(migration: number): Promise<string> {
  const key = new BackupKey(HEX);
  const archive = new Archive(new DirectoryPlace(test.config.backupsDirectory), OF);
  const known = new Set<string>();
  const { db: ours } = test.service.parts.directory.installation();
  const db = { name: `older_${environmentId}`, server: ours.server, of: () => `older_${environmentId}._feed` };
  const made = await archiveTables({ environment: { db: db as never }, archive, key, known, tell: async () => undefined });
  const [setup] = (await archive.writeLines(await setupLines(), key, known)).parts;
  const { parts } = await archive.writeLines([], key, known);
  const id = test.service.parts.newId();
  const unsigned: Omit<ArchiveManifest, 'mac'> = {
    archive: ARCHIVE_FORMAT,
    id,
    ...OF,
    environmentId,
    at: made.at.toISOString(),
    by: 'service',
    note: '',
    migration,
    cipher: CIPHER,
    key: key.mark,
    feed: made.feed,
    tables: made.tables,
    structure: made.structure,
    setup: setup as ArchiveManifest['setup'],
    files: { count: 0, bytes: 0, missing: 0, parts },
  };
  await archive.writeManifest({ ...unsigned, mac: key.macOf(unsigned) });
  return id;
}

const restored = async (backup: string) => {
  const { id } = await test.owner.call(operations.backups.restoreGone, { params: { backup }, body: OF });
  return eventually(async () => {
    // The list is there once the environment is.
    const { items } = await test.owner.call(operations.backups.restores, { params: OF }).catch(() => ({ items: [] }));
    return items.find((one) => one.id === id && one.endedAt);
  }, 120_000);
};

it('comes back with all rows, brought up to date, and lets keys and people in', async () => {
  const backup = await makeBackup(1);
  await test.owner.call(operations.backups.found, {});
  expect(await restored(backup)).toMatchObject({ state: 'done' });
  const records = await callApp(test.address, 'GET', '/data/huts?limit=200', { key: facts.serverKey });
  expect(records.body.items).toHaveLength(facts.counts[`orchard_${environmentId}.huts`]);
  expect((await callApp(test.address, 'POST', '/sessions', { key: facts.clientKey, body: facts.user })).status).toBe(201);
  const changed = await callApp(test.address, 'PATCH', `/data/huts/${records.body.items[0].id}`, {
    key: facts.serverKey,
    body: { name: 'New' },
  });
  expect(changed.status).toBe(200);
}, 300_000);

it('of a newer version is refused, with what to do', async () => {
  const backup = await makeBackup(newestMigration() + 1);
  await test.owner.call(operations.backups.found, {});
  await test.owner.call(operations.environments.remove, { params: OF });
  await expect(test.owner.call(operations.backups.restoreGone, { params: { backup }, body: OF })).rejects.toMatchObject({
    problem: 'backup-unreadable',
    detail: expect.stringContaining('newer version'),
  });
});
