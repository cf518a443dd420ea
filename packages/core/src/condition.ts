/** From counts to findings: what an objective says at a moment, and what it would have said in the past. */
import type { EnvironmentCondition } from './conditions.js';
import { type Budget, budgetOf, burnRate, isShare, type Limits, levelOf, measured, nearness, worstOf } from './objectives.js';
import { type Count, isAbout, type Subject, type Tally, TallyWindow, tallyOf } from './tallies.js';

/** What evaluating an objective needs of it. */
export type Evaluated = Limits & { name: string; subject: Subject; windowMs: number; leaveOut: readonly string[] };

export type FindingValues = {
  condition: EnvironmentCondition;
  value: number | null;
  calls: number;
  nearness: number | null;
  budget: (Budget & { fast: number | null; slow: number | null }) | null;
};

const HOUR_MS = 3_600_000;
const DAY_MS = 24 * HOUR_MS;
/** From here on an objective is a promise over time: it has an error budget, and does not decide the present condition. */
export const BUDGET_WINDOW_MS = 7 * DAY_MS;
/** Two spans in which the speed of spending is watched. */
const FAST_MS = HOUR_MS;
const SLOW_MS = 6 * HOUR_MS;

/** Speeds at which spending a budget is worth an alert: 2 % of 30 days in an hour, 5 % in six hours. */
export const BURN_LIMITS = { fast: 14.4, slow: 6 } as const;

export const hasBudget = ({ windowMs, measure }: Pick<Evaluated, 'windowMs' | 'measure'>): boolean =>
  windowMs >= BUDGET_WINDOW_MS && isShare(measure);

/** One objective with the sums it needs. */
export class ObjectiveWatch {
  readonly #window: TallyWindow;
  readonly #fast: TallyWindow | null;
  readonly #slow: TallyWindow | null;

  constructor(readonly objective: Evaluated) {
    this.#window = new TallyWindow(objective.windowMs);
    this.#fast = hasBudget(objective) ? new TallyWindow(FAST_MS) : null;
    this.#slow = hasBudget(objective) ? new TallyWindow(SLOW_MS) : null;
  }

  add(count: Count): void {
    if (!isAbout(this.objective.subject, count)) return;
    const tally = tallyOf(count, this.objective.leaveOut);
    this.#window.add(count.at, tally);
    this.#fast?.add(count.at, tally);
    this.#slow?.add(count.at, tally);
  }

  /**
   * What the objective says now.
   * @param backlogMs age of the oldest due job of a kind; null where none is due
   */
  find(now: number, backlogMs: (kind: string | undefined) => number | null): FindingValues {
    for (const window of [this.#window, this.#fast, this.#slow]) window?.advance(now);
    const { objective } = this;
    if (objective.measure.of === 'backlog') return this.#findBacklog(backlogMs);
    const tally = this.#window.total;
    const value = measured(objective.measure, tally);
    const known = value !== null && tally.calls >= objective.leastCalls;
    return {
      condition: known ? levelOf(objective, value) : 'dormant',
      value: known ? value : null,
      calls: tally.calls,
      nearness: known ? finite(nearness(objective, value)) : null,
      budget: this.#budget(tally),
    };
  }

  #findBacklog(backlogMs: (kind: string | undefined) => number | null): FindingValues {
    const { objective } = this;
    const { subject } = objective;
    const value = backlogMs(subject.of === 'jobs' ? subject.kind : undefined) ?? 0;
    return { condition: levelOf(objective, value), value, calls: 0, nearness: finite(nearness(objective, value)), budget: null };
  }

  #budget(tally: Tally): FindingValues['budget'] {
    const { objective } = this;
    const fast = this.#fast;
    const slow = this.#slow;
    if (!fast || !slow) return null;
    const budget = budgetOf(objective.measure, objective.stressed, tally);
    if (!budget) return null;
    const speed = ({ total }: TallyWindow) => {
      const rate = total.calls < objective.leastCalls ? null : burnRate(objective.measure, objective.stressed, total);
      return rate === null ? null : finite(rate);
    };
    return { ...budget, spent: finite(budget.spent), fast: speed(fast), slow: speed(slow) };
  }
}

/** JSON has no infinity: past a limit of zero everything is a thousand times too much. */
const finite = (value: number): number => (Number.isFinite(value) ? value : 1_000);

/**
 * The condition that findings say an environment is in: the worst of them, without those that promise something over a week
 * or more. Without calls it is dormant, unless something else is wrong.
 */
export function conditionOf(
  findings: readonly (Pick<Evaluated, 'windowMs'> & { condition: EnvironmentCondition })[],
  recentCalls: number,
): EnvironmentCondition {
  const worst = worstOf(findings.filter(({ windowMs }) => windowMs < BUDGET_WINDOW_MS).map(({ condition }) => condition));
  return worst === 'thriving' && recentCalls === 0 ? 'dormant' : worst;
}

/** What broke the most: the finding that stands for the condition. */
export function worstFinding<F extends Pick<Evaluated, 'windowMs'> & Pick<FindingValues, 'condition' | 'nearness'>>(
  findings: readonly F[],
  condition: EnvironmentCondition,
): F | null {
  const own = findings.filter((one) => one.condition === condition && one.windowMs < BUDGET_WINDOW_MS);
  return own.sort((a, b) => (b.nearness ?? 0) - (a.nearness ?? 0))[0] ?? null;
}

/**
 * What an objective would have said at every step of a period.
 * @param counts from a window before the period on, in order of time
 */
export function replay(
  objective: Evaluated,
  counts: readonly Count[],
  { from, until, stepMs }: { from: number; until: number; stepMs: number },
): { at: number; condition: EnvironmentCondition; value: number | null }[] {
  const watch = new ObjectiveWatch(objective);
  const said: ReturnType<typeof replay> = [];
  let next = 0;
  for (let at = from; at <= until; at += stepMs) {
    for (; next < counts.length && (counts[next] as Count).at < at; next++) watch.add(counts[next] as Count);
    // The step that ended, not the one that begins.
    const { condition, value } = watch.find(at - 1, () => null);
    said.push({ at, condition, value });
  }
  return said;
}
