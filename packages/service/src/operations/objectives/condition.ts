/** The condition of environments as a member sees it: now, at a time in the past, and over a period. */
import { type EnvironmentConditionDocument, type InstallationCondition, Problem } from '@orchard/contract';
import {
  addTally,
  CELL_MS,
  type Count,
  conditionOf,
  emptyTally,
  ObjectiveWatch,
  STEPS,
  type Step,
  stepOf,
  type Tally,
  tallyOf,
} from '@orchard/core';
import pLimit from 'p-limit';
import type { Environment, SignedInMember } from '../../platform/call.js';
import { visibleEnvironments } from '../../platform/access/visibleEnvironments.js';
import { INSTALLATION } from '../../platform/database/servers.js';
import type { Platform } from '../../platform/platform.js';
import { readCounts } from '../telemetry/countStore.js';
import { readPast } from './history.js';
import { readChanges, readConditions, readSet, type StoredCondition } from './store.js';
import { presentCell } from './watch.js';

const RECENT_MS = 5 * STEPS.minute;
const AT_ONCE = 4;
/** Cells are kept for a day. */
const CELLS_MS = 23 * STEPS.hour;

export async function readCondition(parts: Platform, member: SignedInMember) {
  const environments = await visibleEnvironments(parts, member);
  const stored = await readConditions(parts.database);
  const installation = stored.get(INSTALLATION);
  return {
    items: environments.map((environment) => present(environment, stored.get(environment.id))),
    installation: member.owner && installation ? presentInstallation(installation) : null,
    evaluatedAt: installation?.evaluatedAt.toISOString() ?? null,
  };
}

function present({ app, name, createdAt }: Environment, stored: StoredCondition | undefined): EnvironmentConditionDocument {
  return {
    app,
    environment: name,
    condition: stored?.condition ?? 'dormant',
    since: (stored?.since ?? createdAt).toISOString(),
    evaluatedAt: stored?.evaluatedAt.toISOString() ?? null,
    stepMs: CELL_MS,
    recent: stored?.findings.recent ?? [],
    version: stored?.findings.version ?? 0,
    objectives: stored?.findings.objectives ?? [],
  };
}

const presentInstallation = ({ condition, since, findings }: StoredCondition): InstallationCondition => ({
  condition,
  since: since.toISOString(),
  checks: findings.checks ?? [],
});

/** As it was at a time, from the counts that are kept. */
export async function readPastCondition(parts: Platform, member: SignedInMember, at: number) {
  if (at > parts.now())
    throw new Problem('invalid-input', '`at` lies in the future.', {
      fields: [{ path: 'query.at', problem: 'It lies in the future.', expected: 'a time in the past' }],
    });
  const environments = await visibleEnvironments(parts, member);
  const limit = pLimit(AT_ONCE);
  return {
    items: await limit.map(environments, (environment) => conditionAt(environment, at, parts.now())),
    installation: null,
    evaluatedAt: new Date(at).toISOString(),
  };
}

async function conditionAt(environment: Environment, at: number, now: number): Promise<EnvironmentConditionDocument> {
  const { db, app, name } = environment;
  const set = await readSet(environment, new Date(at));
  const objectives = set?.items ?? [];
  const hasCells = at > now - CELLS_MS;
  const longest = objectives.reduce((most, { windowMs }) => Math.max(most, windowMs), RECENT_MS);
  const cells = hasCells ? await readCounts(db, 'cell', at - 16 * STEPS.minute, at) : [];
  const past = await readPast(db, at - longest, at, stepOf(longest));
  const findings = objectives.map((objective) => {
    const watch = new ObjectiveWatch(objective);
    const fromCells = hasCells && stepOf(objective.windowMs) === 'cell';
    for (const count of fromCells ? cells : past) watch.add(count);
    return { ...objective, ...watch.find(at - 1, () => null) };
  });
  const step: Step = hasCells ? 'cell' : 'minute';
  const recent = recentOf(hasCells ? cells : past, STEPS[step], at);
  const { before, changes } = await readChanges(environment, new Date(0), new Date(at));
  const last = changes.at(-1);
  // Before the first change was noted, what the counts say stands for it.
  const condition = last?.condition ?? (before === 'dormant' ? conditionOf(findings, recent.length) : before);
  return {
    app,
    environment: name,
    condition,
    since: last?.at ?? environment.createdAt.toISOString(),
    evaluatedAt: new Date(at).toISOString(),
    stepMs: STEPS[step],
    recent,
    version: set?.version ?? 0,
    objectives: findings,
  };
}

/** Thirty steps up to a time, those with calls. */
function recentOf(counts: readonly Count[], stepMs: number, at: number) {
  const sums = new Map<number, Tally>();
  const from = Math.floor((at - 30 * stepMs) / stepMs) * stepMs;
  for (const count of counts) {
    if (count.kind !== 'call' || count.at < from || count.at >= at) continue;
    let sum = sums.get(count.at);
    if (!sum) sums.set(count.at, (sum = emptyTally()));
    addTally(sum, tallyOf(count, []));
  }
  return [...sums].sort(([a], [b]) => a - b).map(([start, sum]) => presentCell(start, sum));
}

export async function readHistory(parts: Platform, member: SignedInMember, from: number, until: number) {
  const environments = await visibleEnvironments(parts, member);
  const limit = pLimit(AT_ONCE);
  return {
    from: new Date(from).toISOString(),
    until: new Date(until).toISOString(),
    items: await limit.map(environments, async (environment) => ({
      app: environment.app,
      environment: environment.name,
      ...(await readChanges(environment, new Date(from), new Date(until))),
    })),
  };
}
