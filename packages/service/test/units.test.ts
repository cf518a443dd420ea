/** A unit of work: one transaction over all that a piece of work does. */
import { afterAll, beforeAll, beforeEach, expect, inject, it } from 'vitest';
import { apart, type Database, openDatabase } from '../src/platform/database/connection.js';
import { afterCommit, clearing } from '../src/platform/database/unit.js';
import { startTestService, type TestService } from './support.js';

let test: TestService;
let database: Database;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  database = test.service.parts.database;
  await database.run('CREATE TABLE marks (name VARCHAR(20) PRIMARY KEY)');
});
beforeEach(() => database.run('DELETE FROM marks'));
afterAll(() => test.stop());

const add = (name: string, on: Pick<Database, 'change'> = database) => on.change('INSERT INTO marks VALUES (?)', [name]);
const names = async () => (await database.rows<{ name: string }>('SELECT name FROM marks ORDER BY name')).map(({ name }) => name);

it('commits all of it, and is not seen before that', async () => {
  await database.unit(async () => {
    await add('ash');
    await database.transaction(async (on) => void (await add('birch', on)));
    expect(await names(), 'inside').toEqual(['ash', 'birch']);
    expect(await apart(names), 'outside').toEqual([]);
  });
  expect(await names()).toEqual(['ash', 'birch']);
});

it('leaves nothing when it fails', async () => {
  const failing = database.unit(async () => {
    await add('ash');
    await database.transaction(async (on) => void (await add('birch', on)));
    throw new Error('storm');
  });
  await expect(failing).rejects.toThrow('storm');
  expect(await names()).toEqual([]);
});

it('goes on after a transaction inside it has failed, without what that one did', async () => {
  await database.unit(async () => {
    await add('ash');
    const inner = database.transaction(async (on) => {
      await add('birch', on);
      throw new Error('storm');
    });
    await expect(inner).rejects.toThrow('storm');
    await add('cedar');
  });
  expect(await names()).toEqual(['ash', 'cedar']);
});

it('inside another one is part of it', async () => {
  const outer = database.unit(async () => {
    await database.unit(() => add('ash'));
    throw new Error('storm');
  });
  await expect(outer).rejects.toThrow('storm');
  expect(await names()).toEqual([]);
});

it('runs what waits for the commit after it, and not at all without one', async () => {
  const ran: string[] = [];
  await database.unit(async () => {
    afterCommit(() => ran.push('after'));
    clearing(() => ran.push('cleared'));
    ran.push('work');
  });
  expect(ran).toEqual(['cleared', 'work', 'after', 'cleared']);
  await expect(
    database.unit(async () => {
      afterCommit(() => ran.push('never'));
      throw new Error('storm');
    }),
  ).rejects.toThrow('storm');
  afterCommit(() => ran.push('at once'));
  expect(ran.slice(4)).toEqual(['at once']);
});

it('takes statements that are sent at once in the order they were sent', async () => {
  await database.unit(async () => {
    await Promise.all(['ash', 'birch', 'cedar'].map((name) => add(name)));
    expect(await Promise.all([names(), names()])).toEqual([
      ['ash', 'birch', 'cedar'],
      ['ash', 'birch', 'cedar'],
    ]);
  });
});

it('is done again from the start when it was a deadlock victim', async () => {
  await add('ash');
  await add('birch');
  const lock = (name: string) => database.rows('SELECT name FROM marks WHERE name = ? FOR UPDATE', [name]);
  let attempts = 0;
  let meet: () => void = () => undefined;
  const met = new Promise<void>((resolve) => {
    meet = resolve;
  });
  let arrived = 0;
  const both = async (first: string, second: string) =>
    database.unit(async () => {
      attempts++;
      await lock(first);
      if (++arrived >= 2) meet();
      await met;
      await lock(second);
    });
  await Promise.all([both('ash', 'birch'), both('birch', 'ash')]);
  expect(attempts).toBe(3);
});

it('never waits for a connection that only other transactions could give back', async () => {
  const few = openDatabase(test.config.databaseUrl as string, { connections: 4 });
  let done = 0;
  const busy = (kind: 'unit' | 'transaction', i: number) =>
    few[kind](async () => {
      // Beside the transaction, as a look-up of what is cached is.
      await apart(() => few.rows('SELECT SLEEP(0.01)'));
      await few.transaction((on) => add(`${kind}${i}`, on));
      done++;
    });
  await Promise.all(Array.from({ length: 20 }, (_, i) => busy(i % 2 ? 'unit' : 'transaction', i)));
  expect(done).toBe(20);
  expect(await names()).toHaveLength(20);
  await few.close();
});
