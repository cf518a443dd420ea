/** Photos taken without a signal: queued on the device, sent later, and in the record they belong to. */
import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { connect, type Orchard } from '../src/index.js';
import { fileStorage, fileStore } from '../src/node.js';

let test: TestService;
let app: TestApp;
let online = true;
const directory = mkdtempSync(join(tmpdir(), 'orchard-photos-'));
const ACCOUNT = { email: 'runa@hikers.example', password: 'ridge-and-river' };

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  const { params } = app.dev;
  await test.owner.call(operations.collections.create, {
    params,
    body: {
      name: 'hazards',
      fields: [
        { name: 'kind', type: 'text' },
        { name: 'photo', type: 'file' },
      ],
      rules: { read: 'TRUE', create: 'signed-in', update: 'signed-in', delete: 'signed-in' },
    } as never,
  });
});
afterAll(() => test.stop());

async function start(): Promise<Orchard> {
  const orchard = connect({
    address: test.address,
    clientKey: app.dev.clientKey,
    storage: fileStorage(join(directory, 'session.json')),
    introduce: false,
    fetch: async (input, init) => (online ? fetch(input, init) : Promise.reject(new TypeError('fetch failed'))),
  });
  await orchard.sync.declare([{ collection: 'hazards' }], { automatic: false, store: fileStore(directory) });
  return orchard;
}

describe('a photo taken without a signal', () => {
  it.each([
    ['goes first, and its record waits for it', true],
    ['follows its record', false],
  ])('%s', async (_how, first) => {
    let orchard = await start();
    if (!(await orchard.me().catch(() => null))) await orchard.signUp(ACCOUNT);
    await orchard.sync();
    online = false;
    const hazards = orchard.collection('hazards');
    const { id } = await hazards.create({ kind: 'rockfall' });
    await orchard.sync.queueFile({
      path: `hazards/${id}.bin`,
      content: new Blob([`rock ${first}`]),
      collection: 'hazards',
      record: id,
      field: 'photo',
      first,
    });
    await expect(orchard.sync()).rejects.toThrow('cannot be reached');
    expect(orchard.sync.state.current).toMatchObject({ files: 1, pending: 1 });
    // The app is ended, and started where there is a signal.
    online = true;
    orchard = await start();
    expect(orchard.sync.queuedFiles()).toMatchObject([{ path: `hazards/${id}.bin` }]);
    await orchard.sync();
    if (!first) await orchard.sync();
    expect(orchard.sync.state.current).toMatchObject({ files: 0, pending: 0 });
    const { photo } = await orchard.collection('hazards').read(id, { from: 'service' });
    expect(await (await orchard.files.get(`@${photo}`)).text()).toBe(`rock ${first}`);
  });
});
