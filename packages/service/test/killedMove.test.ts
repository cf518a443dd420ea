/** A service that is killed again and again while it moves an environment: it goes on, and no write that was acknowledged is lost. */
import { rmSync } from 'node:fs';
import { setTimeout as sleep } from 'node:timers/promises';
import { operations } from '@orchard/contract';
import mysql from 'mysql2/promise';
import pino from 'pino';
import { expect, it } from 'vitest';
import { startDatabaseServer } from '../src/platform/database/server.js';
import { startKillable } from './killable.js';
import { scratchDirectory } from './scratch.js';
import { callApp, eventually, makeApp } from './support.js';

const own = operations.moves;

it('goes on with a move wherever it is killed, and loses nothing that was acknowledged', async () => {
  const directory = scratchDirectory('killed-move-to');
  const second = await startDatabaseServer(directory, pino({ level: 'silent' }));
  const there = second.url.replace(/\/orchard$/, '');
  const service = await startKillable('killed-move', { ORCHARD_DATABASE_SERVERS: `south=${there}` });
  const { dev } = await makeApp(service, 'killed');
  const { params } = dev;
  let over = false;
  const written = new Map<string, number>();
  const writing = (async () => {
    for (let i = 0; !over; i++) {
      const id = `hut-${i % 40}`;
      const stored = await callApp(service.address, 'PUT', `/data/huts/${id}`, { key: dev.serverKey, body: { name: id, beds: i } }).catch(
        () => null,
      );
      if (stored && stored.status < 300) written.set(id, i);
      // Whether one is stored whose answer was lost, nobody knows.
      else written.delete(id);
      await sleep(5);
    }
  })();
  await sleep(300);
  const { id } = await service.owner.call(own.begin, { params, body: { server: 'south' } });
  const read = () => service.owner.call(own.read, { params: { ...params, move: id } });
  const seen = new Set<string>();
  let move = await read();
  while (!move.endedAt) {
    move = await eventually(() => read().catch(() => null));
    if (!move.doing || seen.has(move.state) || seen.size >= 3) continue;
    seen.add(move.state);
    await service.kill();
    await service.restart();
  }
  over = true;
  await writing;
  expect(seen.size).toBeGreaterThanOrEqual(2);
  expect(move).toMatchObject({ state: 'done', problem: null });
  expect(written.size).toBeGreaterThan(10);
  for (const [record, beds] of written)
    expect((await callApp(service.address, 'GET', `/data/huts/${record}`, { key: dev.serverKey })).body).toMatchObject({ beds });
  const connection = await mysql.createConnection({ uri: there });
  const [rows] = await connection.query<mysql.RowDataPacket[]>(
    "SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_NAME LIKE '\\_move%' UNION SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_NAME LIKE '\\_move%'",
  );
  await connection.end();
  expect(rows).toEqual([]);
  await service.stop();
  await second.stop();
  rmSync(directory, { recursive: true, force: true });
}, 400_000);
