/** How the local copy of a user is opened, whatever state it is in. Loaded when an app declares what it keeps at hand. */
import { Offline, type OfflineGround } from './offline.js';
import { forgetStore, indexedBacking } from './indexedBacking.js';
import { memoryBacking } from './memoryBacking.js';
import { type Backing, FORMAT, type Loaded } from './types.js';

/** Opens the copy that the ground names. One that cannot be read is filled anew; without a store it is kept in memory. */
export async function openOffline(ground: OfflineGround): Promise<Offline> {
  const { name, warn } = ground;
  const open =
    ground.backing ??
    ((named) => indexedBacking(named, () => warn('A newer version of the app took over the local copy. Reload the page.')));
  let backing: Backing;
  try {
    backing = await open(name);
  } catch (error) {
    return withoutBacking(ground, error as Error);
  }
  try {
    return new Offline(ground, backing, demandForm(await backing.load()), null);
  } catch (error) {
    if ((error as Error).name === 'VersionError') return withoutBacking(ground, error as Error);
    return openOffline({ ...ground, ...(await rebuilt(ground, backing, error as Error)) });
  }
}

/** The app goes on, with a copy in memory alone. */
async function withoutBacking(ground: OfflineGround, { name, message }: Error): Promise<Offline> {
  const memory = memoryBacking();
  if (name === 'VersionError') {
    const detail = 'The local copy is of a newer version of the app. It is left as it is; update this one.';
    return new Offline(ground, memory, await memory.load(), { why: 'newer-store', detail });
  }
  ground.warn(`Nothing can be kept on this device (${message}), so what is written offline is lost when the app ends.`);
  return new Offline(ground, memory, await memory.load(), null);
}

function demandForm(loaded: Loaded): Loaded {
  const isSound =
    [loaded.rows, loaded.pending, loaded.conflicts].every(Array.isArray) &&
    loaded.rows.every((row) => typeof row?.record?.version === 'number' && Array.isArray(row.scopes));
  if (!isSound) throw new Error('it does not have the form it should have');
  return loaded;
}

/** A copy that cannot be read is filled anew; changes that wait are saved first, as far as they can be read. */
async function rebuilt(
  { name, warn, backing: open }: OfflineGround,
  backing: Backing,
  error: Error,
): Promise<Pick<OfflineGround, 'backing'>> {
  warn(`The local copy cannot be read (${error.message}). It is filled anew.`);
  const saved = await backing.load().then(
    ({ pending, conflicts, files }) => ({
      pending: pending.filter((change) => change?.id && change.collection && change.record),
      conflicts,
      files,
    }),
    () => ({ pending: [], conflicts: [], files: [] }),
  );
  await backing.clear().catch(() => undefined);
  await backing.commit({ ...saved, facts: { format: FORMAT } }).catch(async () => {
    await backing.close();
    await forgetStore(name);
  });
  return open ? { backing: async () => backing } : {};
}
