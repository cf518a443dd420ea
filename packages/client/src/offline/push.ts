/** Bringing pending changes to the service, in their order; what it says becomes the local copy. */
import type { PushedChange, SyncOutcome, SyncPushed } from '@orchard/contract';
import type { Json } from '@orchard/core';
import { isEqual } from '@orchard/core/sync';
import type { Local } from './local.js';
import type { Batch, Conflict, LocalRecord, PendingChange } from './types.js';

/** Settles a conflict: a value of the app's own, or undefined to leave it as the collection says. */
export type OnConflict = (conflict: Conflict) => Json | undefined;
export type PushGround = {
  local: Local;
  push: (changes: PushedChange[]) => Promise<SyncPushed>;
  newId: () => string;
  now: () => number;
  onConflict: OnConflict | undefined;
};
export type PushCounts = { sent: number; taken: number; refused: number; conflicts: number };

/** Of one call: changes, and about how many characters of JSON. */
const [MOST, MOST_CHARACTERS] = [1_000, 4_000_000];

export async function pushAll(ground: PushGround): Promise<PushCounts> {
  const counts: PushCounts = { sent: 0, taken: 0, refused: 0, conflicts: 0 };
  for (let some = nextOf(ground.local); some.length > 0; some = nextOf(ground.local)) {
    for (const { id } of some) ground.local.inFlight.add(id);
    try {
      await ground.local.noteSent(some);
      const { results, records } = await ground.push(some.map(asPushed));
      await take(ground, some, results, records, counts);
    } finally {
      for (const { id } of some) ground.local.inFlight.delete(id);
    }
  }
  return counts;
}

function nextOf(local: Local): PendingChange[] {
  const some: PendingChange[] = [];
  let characters = 0;
  for (const change of local.waiting()) {
    characters += JSON.stringify(change.fields).length + JSON.stringify(change.seen).length + 200;
    if (some.length === MOST || (some.length > 0 && characters > MOST_CHARACTERS)) break;
    some.push(change);
  }
  return some;
}

function asPushed({ id, collection, record, action, fields, seen, version }: PendingChange): PushedChange {
  if (action === 'create') return { id, collection, record, action, fields };
  return action === 'change' ? { id, collection, record, action, fields, seen, version } : { id, collection, record, action, version };
}

async function take(
  ground: PushGround,
  sent: readonly PendingChange[],
  results: readonly SyncOutcome[],
  records: SyncPushed['records'],
  counts: PushCounts,
): Promise<void> {
  const { local } = ground;
  const outcomes = new Map(results.map((outcome) => [outcome.id, outcome]));
  const came = new Map(records.map(({ collection, record }) => [`${collection}/${record.id}`, record as LocalRecord]));
  const batch: Required<Pick<Batch, 'rows' | 'gone' | 'pending' | 'done' | 'conflicts'>> = {
    rows: [],
    gone: [],
    pending: [],
    done: [],
    conflicts: [],
  };
  counts.sent += sent.length;
  const refusedCreates = new Set<string>();
  for (const change of sent) {
    const outcome = outcomes.get(change.id);
    if (!outcome) continue;
    if (outcome.status === 'taken') {
      counts.taken++;
      batch.done.push(change.id);
      batch.conflicts.push(...conflictsOf(ground, change, outcome));
    } else {
      const state = dependsOn(change, refusedCreates) ? 'held' : 'refused';
      if (change.action === 'create') refusedCreates.add(change.record);
      if (state === 'refused') counts.refused++;
      batch.pending.push({
        ...change,
        attempts: change.attempts + 1,
        state,
        ...(outcome.problem ? { problem: problemOf(outcome.problem) } : {}),
      });
    }
  }
  for (const change of sent) noteRecord(local, change, outcomes.get(change.id), came, batch);
  holdDependents(local, refusedCreates, batch);
  counts.conflicts += batch.conflicts.length;
  const settled = ground.onConflict ? settleByApp(ground, batch) : [];
  await local.commit({ ...batch, pending: [...batch.pending, ...settled] });
}

/** The record as the service has it now, in place of what the device thought; a hook may have changed it on the way in. */
function noteRecord(
  local: Local,
  { collection, record }: PendingChange,
  outcome: SyncOutcome | undefined,
  came: ReadonlyMap<string, LocalRecord>,
  batch: Required<Pick<Batch, 'rows' | 'gone'>>,
): void {
  if (outcome?.status !== 'taken' || batch.rows.some((row) => row.collection === collection && row.id === record)) return;
  const now = came.get(`${collection}/${record}`);
  const before = local.collection(collection).rows.get(record);
  if (now) batch.rows.push({ collection, id: record, record: now, scopes: before?.scopes ?? [] });
  else if (before) batch.gone.push({ collection, id: record });
}

function conflictsOf({ newId, now }: PushGround, { collection, record }: PendingChange, { conflicts = [] }: SyncOutcome): Conflict[] {
  // Where the device's value stands, nothing of it was lost.
  return conflicts
    .filter(({ device, kept }) => !isEqual(device as Json, kept as Json))
    .map((conflict) => ({ ...(conflict as Omit<Conflict, 'id'>), id: newId(), collection, record, at: new Date(now()).toISOString() }));
}

/** Conflicts that a function of the app settles become changes over what was kept. */
function settleByApp({ onConflict, newId, now }: PushGround, batch: Required<Pick<Batch, 'rows' | 'conflicts'>>): PendingChange[] {
  const changes: PendingChange[] = [];
  batch.conflicts = batch.conflicts.filter((conflict) => {
    const value = onConflict?.(conflict);
    if (value === undefined) return true;
    const { collection, record, field, kept } = conflict;
    const version = batch.rows.find((row) => row.id === record)?.record.version ?? 0;
    if (!isEqual(value, kept))
      changes.push({
        id: newId(),
        order: now() + changes.length,
        collection,
        record,
        action: 'change',
        fields: { [field]: value },
        seen: { [field]: kept },
        version,
        at: new Date(now()).toISOString(),
        attempts: 0,
        state: 'waiting',
      });
    return false;
  });
  return changes;
}

const problemOf = ({ type, detail, status }: { type: string; detail: string; status: number }) => ({
  problem: type.split('/').at(-1) ?? '',
  detail,
  status,
});

/** Whether a change is of, or refers to, a record that the service did not take. */
const dependsOn = ({ record, fields }: PendingChange, refused: ReadonlySet<string>): boolean =>
  refused.size > 0 && (refused.has(record) || Object.values(fields).some((value) => typeof value === 'string' && refused.has(value)));

/** Changes that depend on a refused one wait until it is mended or discarded. */
function holdDependents(local: Local, refused: ReadonlySet<string>, batch: Required<Pick<Batch, 'pending' | 'done'>>): void {
  if (refused.size === 0) return;
  const told = new Set([...batch.pending.map(({ id }) => id), ...batch.done]);
  for (const change of local.waiting())
    if (!told.has(change.id) && dependsOn(change, refused)) batch.pending.push({ ...change, state: 'held' });
}
