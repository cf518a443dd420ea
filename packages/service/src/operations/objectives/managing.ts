/** Objectives as the team changes them: checked, stored as a new version, and tried on the past. */
import { type Objective, type ObjectiveSet, Problem } from '@orchard/contract';
import { limitFaults, replay, STEPS, stepOf, writeActor } from '@orchard/core';
import { type Call, actorOf, type Environment } from '../../platform/call.js';
import { isDuplicate } from '../../platform/database/errors.js';
import { defaultObjectives } from './defaults.js';
import { readPast } from './history.js';
import { addSet, presentSet, readChanges, readSet } from './store.js';

type Fields = NonNullable<Problem['extras']['fields']>;

/** Gives an environment its first objectives, unless it has some. */
export async function giveObjectives(environment: Environment, now: number): Promise<void> {
  if (await readSet(environment)) return;
  const set = {
    items: defaultObjectives(environment),
    at: new Date(now),
    actor: writeActor({ kind: 'service', id: null }),
    why: 'What every environment starts with',
  };
  await addSet(environment, set, 0).catch((error) => {
    if (!isDuplicate(error)) throw error;
  });
}

/** @throws {Problem} not-found in an environment from before there were objectives, until its first start */
export async function demandSet(environment: Environment): Promise<ObjectiveSet> {
  const set = await readSet(environment);
  if (!set) throw new Problem('not-found', `${environment.app}/${environment.name} has no objectives yet.`);
  return presentSet(environment, set);
}

type Wanted = { items: Objective[]; why?: string | undefined; version?: number | undefined };

/**
 * Stores objectives as the next version.
 * @param path of the list in the body, for errors
 * @throws {Problem} invalid-input; version-conflict when they were changed meanwhile
 */
export async function replaceObjectives(
  call: Pick<Call, 'member' | 'user' | 'holder'>,
  environment: Environment,
  { items, why, version }: Wanted,
  now: number,
  path?: string,
): Promise<ObjectiveSet> {
  demandSound(items, path);
  const before = (await readSet(environment))?.version ?? 0;
  const conflict = (is: number) =>
    new Problem(
      'version-conflict',
      `The objectives are at version ${is} now, not ${version ?? before}. Read them again and apply your change to those.`,
    );
  if (version !== undefined && version !== before) throw conflict(before);
  const set = { items, at: new Date(now), actor: writeActor(actorOf(call)), why: why ?? null };
  try {
    await addSet(environment, set, before);
  } catch (error) {
    if (isDuplicate(error)) throw conflict(before + 1);
    throw error;
  }
  return presentSet(environment, { ...set, version: before + 1 });
}

/** @throws {Problem} invalid-input that names each number that cannot be */
export function demandSound(items: readonly Objective[], path = 'body.items'): void {
  const fields: Fields = items.flatMap((one, i) => [
    ...limitFaults(one).map((fault) => ({ ...fault, path: `${path}.${i}.${fault.path}` })),
    ...subjectFaults(one).map((fault) => ({ ...fault, path: `${path}.${i}.${fault.path}` })),
    ...(items.findIndex(({ name }) => name === one.name) < i
      ? [{ path: `${path}.${i}.name`, problem: `There are two objectives \`${one.name}\`.`, expected: 'a name of its own' }]
      : []),
  ]);
  if (fields.length === 0) return;
  const first = fields[0] as Fields[number];
  throw new Problem('invalid-input', `Nothing was changed. ${first.problem}`, { fields });
}

/** Measures that make no sense of a subject. */
function subjectFaults({ subject, measure }: Objective): { path: string; problem: string; expected: string }[] {
  const wrong = (problem: string, expected: string) => [{ path: 'measure.of', problem, expected }];
  if (measure.of === 'backlog' && subject.of !== 'jobs')
    return wrong('Only jobs have a backlog.', 'another measure, or the subject `{ "of": "jobs" }`');
  if (measure.of === 'delivered' && subject.of !== 'gateway')
    return wrong('Only gateways deliver.', 'another measure, or the subject `{ "of": "gateway" }`');
  if (measure.of === 'refused' && (subject.of === 'jobs' || subject.of === 'gateway' || subject.of === 'function'))
    return wrong('Only calls are refused.', '`failed`, or `delivered` for a gateway');
  return [];
}

/** How fine the answer of a trial is. */
const TRIAL_STEPS = 1_000;

/** What an objective would have said over the last days, beside what is in force and what was said. */
export async function tryObjective(environment: Environment, objective: Objective, days: number, now: number) {
  demandSound([objective], 'body.objective');
  const step = stepOf(objective.windowMs);
  const stepMs = Math.max(
    STEPS[step === 'cell' ? 'minute' : step],
    Math.ceil((days * STEPS.day) / TRIAL_STEPS / STEPS.minute) * STEPS.minute,
  );
  const until = Math.floor(now / stepMs) * stepMs;
  const from = until - Math.floor((days * STEPS.day) / stepMs) * stepMs;
  const present = (await readSet(environment))?.items.find(({ name }) => name === objective.name);
  const windowMs = Math.max(objective.windowMs, present?.windowMs ?? 0);
  const counts = await readPast(environment.db, from - windowMs, until, step === 'day' ? 'day' : step === 'hour' ? 'hour' : 'minute');
  counts.sort((a, b) => a.at - b.at);
  const line = (one: Objective) =>
    replay(one, counts, { from, until, stepMs }).map(({ at, ...said }) => ({ at: new Date(at).toISOString(), ...said }));
  const { before, changes } = await readChanges(environment, new Date(from), new Date(now));
  return { stepMs, would: line(objective), now: present ? line(present) : null, said: changes, before };
}
