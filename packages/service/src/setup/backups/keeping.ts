/** What is kept at a place: backups by the rule of their environment, and the objects that those consist of. */
import { keptBackups, THE_SERVICE, writeActor } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import { Archive, objectsOf } from './archive.js';
import { type Ground, leaseOf } from './ground.js';
import { backupSettings } from './settings.js';
import type { BackupRow } from './store.js';

/**
 * Removes backups of the schedule that the rule does not keep, then what nothing consists of any more. Those that somebody made
 * stay until somebody removes them. Under the lease of the backups.
 */
export async function tidy(ground: Ground, archive: Archive, environment: Environment): Promise<void> {
  const { parts, store } = ground;
  const { keep } = await backupSettings.read(environment);
  const scheduled = writeActor(THE_SERVICE);
  const all = await store.list({ app: environment.app, environment: environment.name });
  const rows = all.filter(({ state, by }) => state === 'done' && by === scheduled);
  const kept = keptBackups(
    rows.map(({ id, at, askedAt }) => ({ id, at: (at ?? askedAt).getTime() })),
    keep,
    parts.now(),
  );
  await remove(
    ground,
    archive,
    rows.filter(({ id }) => !kept.has(id)).map(({ id }) => id),
  );
}

/** Removes one backup. @throws {Problem} busy, backup-place-unusable */
export async function removeBackup(ground: Ground, row: BackupRow): Promise<void> {
  await ground.parts.servers.leases.with(leaseOf(row), () =>
    ground.places.with((place) => remove(ground, new Archive(place, row), [row.id])),
  );
}

async function remove(ground: Ground, archive: Archive, ids: readonly string[]): Promise<void> {
  if (ids.length === 0) return;
  for (const id of ids) await archive.removeBackup(id);
  await ground.store.remove(ids);
  await sweep(ground, archive);
}

/** A backup whose key is not at hand may consist of anything: then everything stays. */
async function sweep({ keys }: Ground, archive: Archive): Promise<void> {
  const used = new Set<string>();
  for (const id of await archive.backups()) {
    const manifest = await archive.manifest(id).catch(() => null);
    const key = manifest && keys.of(manifest.key);
    if (!manifest || !key) return;
    for (const name of await objectsOf(archive, manifest, key)) used.add(name);
  }
  for (const name of await archive.objects()) if (!used.has(name)) await archive.removeObject(name);
}
