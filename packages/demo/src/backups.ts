/** A backup before the season, one of the schedule's size after it, and records that were brought back. */
import { setTimeout as sleep } from 'node:timers/promises';
import { type HttpClient, operations } from '@orchard/contract';
import { APP } from './scenario.js';

const own = operations.backups;
const DEV = { app: APP.name, environment: 'dev' };
const LOOK_MS = 200;

export async function seedBackups(owner: HttpClient): Promise<void> {
  const { items } = await owner.call(own.list, { params: DEV });
  if (items.length > 0) return;
  await make(owner, 'before the season');
  const before = new Date().toISOString();
  await sleep(50);
  await owner
    .call(operations.managedRecords.remove, { params: { ...DEV, collection: 'bulletins', id: await oneBulletin(owner) } })
    .catch(() => undefined);
  const { id } = await owner.call(own.restoreRecords, { params: DEV, body: { collection: 'bulletins', moment: before } });
  for (let state = 'running'; state === 'running'; await sleep(LOOK_MS))
    ({ state } = await owner.call(own.readRestore, { params: { ...DEV, restore: id } }));
}

async function make(owner: HttpClient, note: string): Promise<void> {
  const { id } = await owner.call(own.make, { params: DEV, body: { note } });
  for (let state = 'running'; state === 'running'; await sleep(LOOK_MS))
    ({ state } = await owner.call(own.read, { params: { ...DEV, backup: id } }));
}

async function oneBulletin(owner: HttpClient): Promise<string> {
  const { items } = await owner.call(operations.managedRecords.list, { params: { ...DEV, collection: 'bulletins' }, query: { limit: 1 } });
  return String(items[0]?.id ?? '');
}
