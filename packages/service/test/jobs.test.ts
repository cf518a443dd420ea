/** The job queue on its own level: order, shares, leases, recurrence. */
import { setTimeout as sleep } from 'node:timers/promises';
import { operations, Problem } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import type { Environment } from '../src/platform/call.js';
import type { JobQueue } from '../src/platform/jobs/queue.js';
import { jobTable } from '../src/platform/jobs/tables.js';
import { dueWork } from '../src/platform/jobs/systemTables.js';
import { eventually, startTestService, type TestService } from './support.js';

let test: TestService;
let jobs: JobQueue;
let one: Environment;
let other: Environment;

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  await test.owner.call(operations.apps.create, { body: { name: 'quillfell-hiker' } });
  const { directory } = test.service.parts;
  ({ jobs } = test.service.parts);
  [one, other] = [await directory.environment('quillfell-hiker', 'dev'), await directory.environment('quillfell-hiker', 'live')];
});
afterAll(() => test.stop());

/** A kind of job that notes what it worked on, and waits until it is let go. */
function gatedKind(kind: string, atOnce?: number) {
  const begun: string[] = [];
  const waiting: (() => void)[] = [];
  jobs.on(kind, {
    ...(atOnce === undefined ? {} : { atOnce }),
    work: async ({ subject }) => {
      begun.push(subject);
      await new Promise<void>((resolve) => {
        waiting.push(resolve);
      });
      return null;
    },
  });
  return { begun, letAllGo: () => waiting.splice(0).forEach((go) => void go()) };
}
const left = async ({ db }: Environment, kind: string) =>
  Number((await db.rows<{ n: number }>(`SELECT COUNT(*) AS n FROM ${db.of(jobTable)} WHERE kind = ?`, [kind]))[0]?.n);

describe('a queue', () => {
  it('works on no more of a kind at a time than it may', async () => {
    const { begun, letAllGo } = gatedKind('two-at-once', 2);
    for (const subject of ['a', 'b', 'c']) await jobs.add(one.db, one, 'two-at-once', subject);
    await jobs.wake(one);
    await eventually(() => begun.length === 2);
    await sleep(700);
    expect(begun).toHaveLength(2);
    letAllGo();
    await eventually(() => begun.length === 3);
    letAllGo();
    await eventually(async () => (await left(one, 'two-at-once')) === 0);
  });

  it('takes again what had to wait for another job, and counts that as no failure', async () => {
    let tries = 0;
    const attempts: number[] = [];
    jobs.on('waits', {
      work: async (job) => {
        attempts.push(job.attempts);
        if (++tries === 1) throw new Problem('busy');
        return null;
      },
    });
    await jobs.add(one.db, one, 'waits', 'for another');
    await jobs.wake(one);
    await eventually(() => tries === 2);
    expect(attempts).toEqual([0, 0]);
    await eventually(async () => (await left(one, 'waits')) === 0);
  });

  it('lets a kind with none running begin though its hands are full', async () => {
    const long = gatedKind('long');
    for (let i = 0; i < 6; i++) await jobs.add(one.db, one, 'long', String(i));
    await jobs.wake(one);
    await eventually(() => long.begun.length === 4);
    let done = false;
    jobs.on('short', {
      work: async () => {
        done = true;
        return null;
      },
    });
    await jobs.add(one.db, one, 'short', 'x');
    await jobs.wake(one);
    await eventually(() => done);
    expect(long.begun).toHaveLength(4);
    await eventually(async () => {
      long.letAllGo();
      return (await left(one, 'long')) === 0;
    });
  });

  it('takes those of higher priority first, and environments in turn', async () => {
    const order: string[] = [];
    jobs.on('in-order', {
      atOnce: 1,
      work: async ({ subject }) => {
        order.push(subject);
        return null;
      },
    });
    for (let i = 0; i < 4; i++) await jobs.add(one.db, one, 'in-order', `one ${i}`, new Date(Date.now() - 10_000 + i), 5);
    await jobs.add(one.db, one, 'in-order', 'one first', new Date(Date.now() - 1_000), 1);
    await jobs.add(other.db, other, 'in-order', 'other', new Date());
    await Promise.all([jobs.wake(one), jobs.wake(other)]);
    await eventually(() => order.length === 6);
    expect(order.filter((subject) => subject.startsWith('one'))).toEqual(['one first', 'one 0', 'one 1', 'one 2', 'one 3']);
    expect(order.indexOf('other')).toBeLessThan(4);
  });

  it('works once more on what was added again while it was worked on', async () => {
    const { begun, letAllGo } = gatedKind('again');
    await jobs.add(one.db, one, 'again', 'bridge');
    await jobs.wake(one);
    await eventually(() => begun.length === 1);
    await sleep(5);
    await jobs.add(one.db, one, 'again', 'bridge');
    letAllGo();
    await eventually(() => begun.length === 2);
    letAllGo();
    await eventually(async () => (await left(one, 'again')) === 0);
  });

  it('takes what comes back later at its time, though nobody wakes it', async () => {
    let times = 0;
    jobs.on('comes-back', { work: async () => (++times < 3 ? new Date(Date.now() + 200) : null) });
    await jobs.add(one.db, one, 'comes-back', 'x');
    await jobs.wake(one);
    await eventually(() => times === 3);
    await eventually(async () => (await left(one, 'comes-back')) === 0);
  });

  it('finds by its sweep what nobody noted', async () => {
    let done = false;
    jobs.on('unnoted', {
      work: async () => {
        done = true;
        return null;
      },
    });
    await jobs.add(other.db, other, 'unnoted', 'x');
    await jobs.sweep(other);
    await eventually(() => done);
  });

  it('keeps recurring work as jobs of the installation, and never gives them up', async () => {
    const { servers, database } = test.service.parts;
    const { installation } = servers;
    const rows = await installation.rows<{ kind: string; attempts: number }>(`SELECT kind, attempts FROM ${installation.of(jobTable)}`);
    expect(rows.map(({ kind }) => kind)).toEqual(
      expect.arrayContaining(['tend collections', 'partitions of requests', 'sweep for due work']),
    );
    const [note] = await database.orm.select().from(dueWork);
    expect(note?.mark).toBeGreaterThan(0);
  });
});
