/** A service that is killed again and again while it applies a setup: the release goes on, and ends as if nothing had been. */
import { operations } from '@orchard/contract';
import { expect, it } from 'vitest';
import { startKillable } from './killable.js';
import { eventually, makeApp } from './support.js';

const own = operations.setups;
const names = (count: number, name: string) => Array.from({ length: count }, (_, i) => `${name}${i}`);
const all = <T>(of: string[], part: (name: string, i: number) => T) => Object.fromEntries(of.map((name, i) => [name, part(name, i)]));

it('goes on with a release at whichever step it is killed, and with the way back, too', async () => {
  const service = await startKillable('killed-release');
  const { dev } = await makeApp(service, 'killed');
  const { params } = dev;
  const collections = all(names(12, 'places'), (_, i) => ({
    fields: { name: { type: 'text' }, ...(i > 0 ? { next: { type: 'reference', to: `places${i - 1}` } } : {}) },
    indexes: [{ fields: ['name'] }],
  }));
  const wanted = { setup: 1, collections, topics: all(names(10, 'topic'), () => ({})) };
  const read = (id: string) => eventually(() => service.owner.call(own.release, { params: { ...params, release: id } }).catch(() => null));
  /** Kills it whenever so many more steps are done, until the release has ended. */
  const killed = async (id: string, everySteps: number) => {
    let [kills, next] = [0, everySteps];
    for (;;) {
      const release = await read(id);
      if (!['running', 'returning'].includes(release.state)) return { release, kills };
      if (release.done < next) continue;
      next = release.done + everySteps;
      kills++;
      await service.kill();
      await service.restart();
    }
  };

  const { id } = await service.owner.call(own.apply, { params, body: { setup: wanted as never } });
  const { release, kills } = await killed(id, 10);
  expect(release).toMatchObject({ state: 'done', problem: null });
  expect(kills).toBeGreaterThanOrEqual(2);
  expect((await service.owner.call(own.compare, { params, body: { setup: wanted as never } })).changes).toEqual([]);

  // One that fails at its last step, and is killed on its way back.
  const before = (await service.owner.call(own.read, { params })).setup;
  const failing = {
    ...wanted,
    collections: all(names(12, 'places'), (name) => ({
      ...collections[name],
      fields: { ...collections[name]?.fields, more: { type: 'integer' } },
    })),
    functions: { broken: { kind: 'endpoint', files: { 'main.ts': 'export default nothing.here;' } } },
  };
  const second = await service.owner.call(own.apply, { params, body: { setup: failing as never } });
  const returned = await eventually(async () => (await read(second.id)).state !== 'running');
  expect(returned).toBe(true);
  await service.kill();
  await service.restart();
  const end = await eventually(async () => {
    const now = await read(second.id);
    return now.state !== 'returning' && now;
  });
  expect(end).toMatchObject({ state: 'returned', problem: expect.stringContaining('Add the function broken') });
  expect((await service.owner.call(own.read, { params })).setup).toEqual(before);
  await service.stop();
}, 240_000);
