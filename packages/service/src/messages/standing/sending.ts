/** Sends what standing notifications have due: looked for every half minute, each record and value once. */
import { Problem } from '@orchard/contract';
import { THE_SERVICE, writeActor } from '@orchard/core';
import { MissingValue } from '@orchard/core/messages';
import type { Environment } from '../../platform/call.js';
import type { Lease, Worker } from '../../platform/jobs/queue.js';
import { prepareNotification } from '../notifications/making.js';
import { contentForRecord, DueRecords, type Occasion } from './due.js';
import type { Parts } from './parts.js';
import { definitionOf, type StandingRow, type StandingStore } from './store.js';

export const STANDING_JOB = 'standing-notifications';
export const LOOK_MS = 30_000;
/** After a longer pause of the service, what was due before is not sent any more. */
const CATCH_UP_MS = 12 * 3_600_000;
const KEPT_MS = 90 * 86_400_000;
const BY = writeActor(THE_SERVICE);
/** Thrown inside a transaction whose occasion was taken before. */
class Taken extends Error {}

/** Adds the job of an environment that has standing notifications. */
export async function lookForDue(parts: Parts, store: StandingStore, environment: Environment): Promise<void> {
  if ((await store.active(environment)).length === 0) return;
  await parts.jobs.add(environment.db, environment, STANDING_JOB, 'due');
  void parts.jobs.wake(environment);
}

export function standingWorker(parts: Parts, store: StandingStore): Worker {
  const due = new DueRecords(parts);
  return async (job, lease) => {
    const environment = await parts.directory.environmentById(job.environmentId);
    if (!environment) return null;
    for (const row of await store.active(environment)) {
      if (lease.stopping()) return new Date(parts.now());
      if (!(await sendDue(parts, store, due, environment, row, lease))) return null;
    }
    await store.forget(environment, new Date(parts.now() - KEPT_MS));
    return null;
  };
}

/** @returns false when the lease was lost; what was not reached is found again from where the row says */
async function sendDue(
  parts: Parts,
  store: StandingStore,
  due: DueRecords,
  environment: Environment,
  row: StandingRow,
  lease: Lease,
): Promise<boolean> {
  const until = parts.now();
  const after = Math.max(row.checkedTo.getTime(), until - CATCH_UP_MS);
  const checkedTo = new Date(until);
  try {
    for await (const occasions of due.between(environment, definitionOf(row), after, until)) {
      for (const occasion of occasions) await sendOne(parts, store, environment, row, occasion);
      if (!(await lease.renew())) return false;
    }
  } catch (error) {
    if (!(error instanceof Problem)) throw error;
    await tell(parts, store, environment, row, error.detail);
    // What cannot be looked for is not made up for hours later.
    await store.change(environment, row.id, { checkedTo });
    return true;
  }
  await store.change(environment, row.id, { checkedTo, ...(row.problem ? { problem: null } : {}) });
  return true;
}

async function sendOne(parts: Parts, store: StandingStore, environment: Environment, row: StandingRow, occasion: Occasion): Promise<void> {
  const { record, value, userId } = occasion;
  const taken = { standingId: row.id, record: record.id, value, at: new Date(parts.now()), userId, reason: null, notification: null };
  const note = (outcome: 'nobody' | 'failed', reason: string) =>
    store.take(environment.db, environment, { ...taken, outcome, reason: reason.slice(0, 300) });
  if (!userId) return void (await note('nobody', `\`${row.to}\` of the record is empty.`));
  const standing = definitionOf(row);
  try {
    const content = contentForRecord(standing, record);
    const send = await prepareNotification(
      parts,
      environment,
      { ...content, audience: { user: userId }, way: standing.way },
      { createdBy: BY, trace: null },
    );
    await send(async (on, notification) => {
      if (!(await store.take(on, environment, { ...taken, outcome: 'sent', notification }))) throw new Taken();
    });
  } catch (error) {
    if (error instanceof Taken) return;
    if (error instanceof MissingValue) return void (await note('failed', error.message));
    if (!(error instanceof Problem)) throw error;
    await note(error.problem === 'audience-empty' ? 'nobody' : 'failed', error.detail);
  }
}

/** Says once what keeps a standing notification from being sent. */
async function tell(parts: Parts, store: StandingStore, environment: Environment, row: StandingRow, detail: string): Promise<void> {
  const { id, app, name } = environment;
  await store.change(environment, row.id, { problem: detail.slice(0, 500) });
  await parts.notices.tell({
    kind: 'schema',
    environmentId: id,
    once: `standing ${row.id} ${row.changedAt.getTime()}`,
    title: `The standing notification “${row.name}” cannot be sent`,
    body: detail,
    link: `/${app}/${name}/standing?open=${row.id}`,
  });
}
