/**
 * Several devices write at random, lose their line, lose answers and are killed, while somebody else changes records and rules at
 * the service. In the end all hold what the service holds; no change that was acknowledged is lost, and none counts twice.
 */
import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { connect, type Orchard, Unreachable } from '../src/index.js';
import { fileStorage, fileStore } from '../src/node.js';

let test: TestService;
let app: TestApp;
let tokens: { runa: string; warden: string };
let run = 0;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  const [runa, warden] = [await signUp(test, app.dev.clientKey, 'runa'), await signUp(test, app.dev.clientKey, 'warden')];
  tokens = { runa: runa.token, warden: warden.token };
});
afterAll(() => test.stop());

/** What happens in one step; `device` and `record` are taken modulo how many there are. */
type Step =
  | { do: 'create' | 'change' | 'add' | 'remove' | 'sync' | 'kill'; device: number; record: number; value: number }
  | { do: 'line'; device: number; is: 'whole' | 'cut' | 'answers-lost' }
  | { do: 'elsewhere'; record: number; value: number; hide: boolean }
  | { do: 'field'; value: number };
const device = fc.nat(2);
const step: fc.Arbitrary<Step> = fc.oneof(
  {
    weight: 8,
    arbitrary: fc.record({
      do: fc.constantFrom('create', 'change', 'add', 'remove', 'sync', 'kill'),
      device,
      record: fc.nat(9),
      value: fc.nat(99),
    }),
  },
  { weight: 2, arbitrary: fc.record({ do: fc.constant('line'), device, is: fc.constantFrom('whole', 'cut', 'answers-lost') }) },
  { weight: 2, arbitrary: fc.record({ do: fc.constant('elsewhere'), record: fc.nat(9), value: fc.nat(99), hide: fc.boolean() }) },
  { weight: 1, arbitrary: fc.record({ do: fc.constant('field'), value: fc.nat(9) }) },
) as fc.Arbitrary<Step>;

class Phone {
  readonly directory = mkdtempSync(join(tmpdir(), 'orchard-agree-'));
  line: 'whole' | 'cut' | 'answers-lost' = 'whole';
  orchard!: Orchard;
  constructor(readonly collection: string) {}

  async start(): Promise<this> {
    this.orchard = connect({
      address: test.address,
      clientKey: app.dev.clientKey,
      storage: fileStorage(join(this.directory, 'session.json')),
      introduce: false,
      fetch: async (input, init) => {
        if (this.line === 'cut') throw new TypeError('fetch failed');
        const reply = await fetch(input, init);
        if (this.line === 'answers-lost') throw new TypeError('fetch failed');
        return reply;
      },
    });
    if (!(await this.orchard.me().catch(() => null)) && this.line === 'whole')
      await this.orchard.signIn('runa@hikers.example', 'ridge-and-river');
    await this.orchard.sync.declare([{ collection: this.collection }], { automatic: false, store: fileStore(this.directory) });
    return this;
  }
  /** A kill: what was acknowledged is in the file, all else is gone. */
  async kill(): Promise<void> {
    const { line } = this;
    this.line = 'whole';
    await this.start();
    this.line = line;
  }
  get records() {
    return this.orchard.collection(this.collection);
  }
}

async function play(steps: readonly Step[]): Promise<void> {
  const collection = `notes${++run}`;
  await test.owner.call(operations.collections.create, {
    params: app.dev.params,
    body: {
      name: collection,
      fields: [
        { name: 'text', type: 'text' },
        { name: 'count', type: 'integer' },
        { name: 'hidden', type: 'boolean' },
      ],
      rules: { read: 'hidden IS NULL OR hidden = FALSE', create: 'signed-in', update: 'TRUE', delete: 'TRUE' },
    } as never,
  });
  const phones = await Promise.all([0, 1, 2].map(() => new Phone(collection).start()));
  const ids: string[] = [];
  const sums = new Map<string, number>();
  const pick = (record: number) => ids[record % Math.max(1, ids.length)];
  const quiet = (error: Error) =>
    error instanceof Unreachable || (error as { status?: number }).status === 404 ? undefined : Promise.reject(error);
  for (const one of steps) {
    if (one.do === 'elsewhere') {
      const id = pick(one.record);
      if (id)
        await test.app('PATCH', `/data/${collection}/${id}`, {
          key: app.dev.clientKey,
          token: tokens.warden,
          body: { text: `w${one.value}`, hidden: one.hide },
        });
      continue;
    }
    if (one.do === 'field') {
      await test.owner
        .call(operations.collections.change, {
          params: { ...app.dev.params, collection },
          body: { change: 'add', name: `extra${one.value}`, field: { type: 'text' } } as never,
          query: {},
        } as never)
        .catch(() => undefined);
      continue;
    }
    const phone = phones[one.device] as Phone;
    if (one.do === 'line') phone.line = one.is;
    else if (one.do === 'sync') await phone.orchard.sync().catch(quiet);
    else if (one.do === 'kill') await phone.kill();
    else if (one.do === 'create') {
      const { id } = await phone.records.create({ text: `c${one.value}`, count: 0 });
      ids.push(id);
      sums.set(id, 0);
    } else {
      const id = pick(one.record);
      const held = id ? await phone.records.read(id).catch(() => null) : null;
      if (!id || !held) continue;
      if (one.do === 'change') await phone.records.change(id, { text: `d${one.value}` });
      if (one.do === 'add') {
        await phone.records.change(id, { _add: { count: 1 } });
        sums.set(id, (sums.get(id) ?? 0) + 1);
      }
      if (one.do === 'remove') await phone.records.remove(id);
    }
  }
  for (const phone of phones) phone.line = 'whole';
  for (let round = 0; round < 3; round++) for (const phone of phones) await phone.orchard.sync();
  const { body } = await test.app('GET', `/data/${collection}?limit=1000&sort=id`, { key: app.dev.clientKey, token: tokens.runa });
  const all = await test.owner.call(operations.managedRecords.list, {
    params: { ...app.dev.params, collection },
    query: { limit: '1000' },
  });
  const refused = new Map<string, number>();
  for (const phone of phones) {
    const { pending } = phone.orchard.sync.state.current;
    expect(pending, 'changes that wait').toBe(0);
    expect((await phone.records.list({ sort: 'id', limit: '1000' })).items).toEqual(body.items);
    for (const { record, fields, state } of phone.orchard.sync.pending())
      if (state === 'refused')
        refused.set(record, (refused.get(record) ?? 0) + Number((fields._add as { count?: number } | undefined)?.count ?? 0));
  }
  // Each sum counts once: what is not in the record was refused, and the device still tells so.
  for (const { id, count } of all.items) expect(Number(count) + (refused.get(id) ?? 0), `count of ${id}`).toBe(sums.get(id));
}

describe('devices that write offline', () => {
  const at = { device: 0, record: 0, value: 0 };
  it.each<[string, Step[]]>([
    [
      'a field was added after records had come',
      [
        { do: 'create', ...at, device: 1 },
        { do: 'create', ...at },
        { do: 'sync', ...at },
        { do: 'field', value: 0 },
        { do: 'create', ...at },
      ],
    ],
  ])('end with what the service holds: %s', (_what, steps) => play(steps));

  it('end with what the service holds, and every change counts once', async () => {
    await fc.assert(
      fc.asyncProperty(fc.array(step, { minLength: 5, maxLength: 40 }), (steps) => play(steps)),
      { numRuns: Number(process.env.ORCHARD_AGREEMENT_RUNS ?? 12), endOnFailure: false, interruptAfterTimeLimit: 240_000 },
    );
  }, 300_000);
});
