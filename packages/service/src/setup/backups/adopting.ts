/** Brings the list of backups after what is at their place. */
import { type BackupDocument, Problem } from '@orchard/contract';
import { Archive, type ArchiveOf } from './archive.js';
import type { Ground } from './ground.js';
import { presentBackup } from './presenting.js';

/** Brings the list after what is at the place: it may be of a machine that is gone, and files may have gone there. */
export async function adopt({ places, store, parts }: Ground, of: ArchiveOf): Promise<void> {
  await places.with(async (place) => {
    const archive = new Archive(place, of);
    const there = new Set(await archive.backups());
    const rows = await store.list(of);
    const gone = rows.filter(({ id, state, place: words }) => state === 'done' && words === place.words && !there.has(id));
    await store.remove(gone.map(({ id }) => id));
    const known = new Set(rows.map(({ id }) => id));
    for (const id of there) {
      if (known.has(id)) continue;
      const manifest = await archive.manifest(id).catch((error) => {
        if (error instanceof Problem) return error;
        throw error;
      });
      const base = { id, ...of, place: place.words };
      if (manifest instanceof Problem) {
        const at = new Date(parts.now());
        await store.add({ ...base, state: 'failed', by: 'service', note: '', askedAt: at, endedAt: at, problem: manifest.detail });
        continue;
      }
      const at = new Date(manifest.at);
      const lines = manifest.tables.flatMap(({ parts: all }) => all);
      await store.add({
        ...base,
        state: 'done',
        by: manifest.by,
        note: manifest.note,
        askedAt: at,
        at,
        endedAt: at,
        keyMark: manifest.key,
        rows: manifest.tables.reduce((sum, { rows: count }) => sum + count, 0),
        bytes: lines.reduce((sum, { bytes }) => sum + bytes, 0),
        files: manifest.files.count,
        fileBytes: manifest.files.bytes,
      });
    }
  });
}

/** What the place holds of all environments, also of those that are gone. */
export async function everythingFound(ground: Ground) {
  const { places, store, parts, keys } = ground;
  const { environments, words } = await places.with(async (place) => ({
    environments: await Archive.environments(place),
    words: place.words,
  }));
  const items: BackupDocument[] = [];
  for (const of of environments) {
    await adopt(ground, of);
    items.push(...(await store.list(of)).map((row) => presentBackup(parts.actors, keys, row)));
  }
  return { items, place: words };
}
