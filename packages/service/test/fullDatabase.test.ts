/** A database whose disk is full: writes are refused in words, reads go on, and nothing that waits is lost. */
import { operations } from '@orchard/contract';
import { SmallDisk } from '@orchard/simulators';
import pino from 'pino';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { type DatabaseServer, startDatabaseServer } from '../src/platform/database/server.js';
import { scratchDirectory } from './scratch.js';
import { eventually, makeApp, startTestService, type TestApp, type TestService } from './support.js';

const disk = new SmallDisk(scratchDirectory('full-database'), '2g');
let database: DatabaseServer;
let test: TestService;
let app: TestApp;
const write = (id: string) => test.app('PUT', `/data/notes/${id}`, { key: app.dev.serverKey, body: { text: 'Rime '.repeat(20_000) } });
const read = (path: string) => test.app('GET', path, { key: app.dev.serverKey });

beforeAll(async () => {
  if (!disk.isThere) return;
  database = await startDatabaseServer(disk.directory, pino({ level: 'silent' }));
  test = await startTestService(database.url, { evaluateMs: 500 });
  app = await makeApp(test, 'quillfell-hiker');
  await test.owner.call(operations.collections.create, {
    params: app.dev.params,
    body: { name: 'notes', fields: [{ name: 'text', type: 'text', maxLength: 200_000 }] } as never,
  });
});
afterAll(async () => {
  disk.free();
  await test?.stop();
  await database?.stop();
  disk.remove();
});

it.runIf(disk.isThere)(
  'refuses what needs room, reads on, and takes writes again once there is room',
  async () => {
    const stored: string[] = [];
    disk.fill();
    // What the database has set aside takes some more.
    const refused = await eventually(async () => {
      const id = `note-${stored.length}`;
      const answer = await write(id);
      if (answer.status < 300) stored.push(id);
      return answer.status < 300 ? null : answer;
    }, 60_000);
    expect(refused.body).toMatchObject({
      type: expect.stringMatching(/storage-full$/),
      status: 507,
      detail: expect.stringContaining('The disk of the database is full'),
    });
    expect(Number(refused.headers.get('retry-after'))).toBeGreaterThan(0);
    for (const id of stored) expect((await read(`/data/notes/${id}`)).status).toBe(200);
    expect((await read(`/data/notes/note-${stored.length}`)).status).toBe(404);
    // Whoever looks what is wrong is told.
    await eventually(async () => {
      const { installation } = await test.owner.call(operations.condition.read, {});
      return installation?.checks.some(({ condition, text }) => condition === 'failing' && text.includes('it refused a write at'));
    }, 30_000);

    disk.free();
    await eventually(async () => (await write('after')).status === 201);
    // The refused call is among the recorded ones, though it could not be recorded when it happened.
    const { params } = app.dev;
    await eventually(async () => {
      const { items } = await test.owner.call(operations.telemetry.requests, { params, query: { filter: 'status = 507' } });
      return items.length > 0;
    });
  },
  240_000,
);
