/** Refused and failed calls by problem, with change against the period before. */
import { type ProblemCount, type ProblemName, PROBLEMS } from '@orchard/contract';
import { chooseStep, hasFailed } from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { firstSeen } from './countStore.js';
import { readLongest } from './usage.js';

type Sum = { calls: number; before: number; failed: boolean; routes: Map<string, number> };

export async function readProblems(db: EnvironmentDatabase, from: number, until: number, now: number): Promise<ProblemCount[]> {
  const stepMs = chooseStep(from, until);
  const start = (at: number) => Math.floor(at / stepMs) * stepMs;
  const length = until - from;
  const counts = await readLongest(db, { from: start(from - length), until }, stepMs, now);
  const sums = new Map<string, Sum>();
  for (const { at, problem, status, calls, method, route } of counts) {
    if (problem === '') continue;
    let sum = sums.get(problem);
    if (!sum) sums.set(problem, (sum = { calls: 0, before: 0, failed: hasFailed(status), routes: new Map() }));
    if (at.getTime() < start(from)) {
      sum.before += calls;
      continue;
    }
    sum.calls += calls;
    const name = `${method} ${route}`;
    sum.routes.set(name, (sum.routes.get(name) ?? 0) + calls);
  }
  const seen = await firstSeen(db);
  return [...sums]
    .filter(([, { calls }]) => calls > 0)
    .map(([problem, sum]) => present(problem, sum, (seen.get(problem) ?? from) >= start(from) && sum.before === 0))
    .sort((a, b) => Number(b.failed) - Number(a.failed) || b.calls - a.calls);
}

function present(problem: string, { calls, before, failed, routes }: Sum, isNew: boolean): ProblemCount {
  return {
    problem,
    title: PROBLEMS[problem as ProblemName]?.title ?? problem,
    calls,
    failed,
    before,
    isNew,
    routes: [...routes]
      .sort(([, a], [, b]) => b - a)
      .map(([name, count]) => {
        const [method = '', route = ''] = name.split(' ');
        return { method, route, calls: count };
      }),
  };
}
