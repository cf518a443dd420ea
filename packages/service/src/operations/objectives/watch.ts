/**
 * One environment as the evaluator sees it: sums of its objectives, kept up by one statement at each evaluation. Cells are
 * written while they still grow, so each row read counts by what it has gained since it was read last.
 */
import type { Objective } from '@orchard/contract';
import {
  addTally,
  CELL_MS,
  type Count,
  conditionOf,
  type DAMPING_MS,
  emptyTally,
  findingWords,
  hasBudget,
  type FindingValues,
  ObjectiveWatch,
  quantiles,
  settle,
  settled,
  type Settling,
  STEPS,
  type Step,
  stepOf,
  type Tally,
  tallyOf,
  worstFinding,
} from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import { backlogSql } from '../../platform/jobs/jobStore.js';
import { type CellRow, cellName, cellsWrittenSql, presentCount, readCells } from '../telemetry/countStore.js';
import type { Change, Evaluated, RecentCell } from './findings.js';
import { readPast } from './history.js';
import { plannedMarkSql, plannedSince, type Stretch } from './plannedStore.js';
import { readSet, versionSql } from './store.js';

/** How long a statement that writes cells can take until what it wrote is seen. */
const LATE_MS = 15_000;
/** The longest window that is summed from cells. */
const CELLS_BACK_MS = 16 * STEPS.minute;
const RECENT_MS = 5 * STEPS.minute;
/** Rows are read again for this long after they were written. */
const FORGET_MS = 2 * LATE_MS + STEPS.minute;

type Seen = { count: Count; readAt: number };
type Recent = { tally: Tally; shown: RecentCell | null };
type StateRow = Omit<CellRow, 'kind'> & { kind: CellRow['kind'] | 'version' | 'planned' | 'backlog' };

export class EnvironmentWatch {
  #version = -1;
  #plannedMark = '';
  #planned: Stretch[] = [];
  #watches: { objective: Objective; watch: ObjectiveWatch }[] = [];
  /** Cells of the last minutes; each is presented anew only after it has grown. */
  #recent = new Map<number, Recent>();
  #seen = new Map<string, Seen>();
  #backlog = new Map<string, number>();
  /** By a clock that no one sets. */
  #readAt: number | null = null;
  #settling: Settling;

  /** @param before what the previous evaluator left, or null */
  constructor(
    private readonly environment: Environment,
    before: Settling | null,
    now: number,
    private readonly damping: typeof DAMPING_MS,
  ) {
    this.#settling = before ?? settled('dormant', now);
  }

  /**
   * Reads what is new, and says how the environment is.
   * @param now the database's clock
   */
  async evaluate(now: number): Promise<{ found: Evaluated; change: Change | null }> {
    const began = performance.now();
    const rows = await this.#readNew(began);
    const version = Number(rows.find(({ kind }) => kind === 'version')?.calls ?? 0);
    const planned = String(rows.find(({ kind }) => kind === 'planned')?.sumUs ?? 0);
    this.#backlog = new Map(rows.filter(({ kind }) => kind === 'backlog').map(({ route, sumUs }) => [route, Number(sumUs)]));
    const cells = rows.filter((row): row is CellRow => row.kind !== 'version' && row.kind !== 'planned' && row.kind !== 'backlog');
    const isCurrent = version === this.#version && planned === this.#plannedMark && this.#readAt !== null;
    this.#plannedMark = planned;
    if (!isCurrent) await this.#load(version, now, began);
    else for (const row of cells) this.#take(row, began);
    this.#readAt = began;
    return this.#conclude(now);
  }

  /** The one statement: cells written since the last one, the version in force, and due jobs by kind. */
  #readNew(began: number): Promise<StateRow[]> {
    const { db } = this.environment;
    const sinceMs = this.#readAt === null ? 0 : began - this.#readAt + LATE_MS;
    const state = (kind: string, route: string, calls: string, sumUs: string) =>
      `UTC_TIMESTAMP(), '${kind}', '', ${route}, '', '', 0, '', ${calls}, ${sumUs}, '', ''`;
    return db.runRows<StateRow>(
      `${cellsWrittenSql(db, sinceMs)}
       UNION ALL SELECT ${state('version', "''", `(${versionSql(db)})`, '0')}
       UNION ALL SELECT ${state('planned', "''", '0', `(${plannedMarkSql(db)})`)}
       UNION ALL SELECT ${state('backlog', 'b.kind', '0', 'b.ms')} FROM (${backlogSql(db)}) b`,
    );
  }

  /** Begins anew: the objectives of a version, with all that their windows hold. */
  async #load(version: number, now: number, began: number): Promise<void> {
    const { db } = this.environment;
    const set = await readSet(this.environment);
    this.#watches = (set?.items ?? []).map((objective) => ({ objective, watch: new ObjectiveWatch(objective) }));
    this.#recent = new Map();
    this.#seen = new Map();
    this.#planned = await plannedSince(this.environment, new Date(now - 30 * STEPS.day));
    const minute = Math.floor(now / STEPS.minute) * STEPS.minute;
    const [cells, past] = await Promise.all([
      readCells(db, now - CELLS_BACK_MS, now + CELLS_BACK_MS),
      Promise.all([...this.#pastNeeded(now)].map(async ([step, from]) => [step, await readPast(db, from, minute, step)] as const)),
    ]);
    const isCoarse = (objective: Objective, step: Step) => stepOf(objective.windowMs) === step;
    for (const [step, counts] of past)
      for (const { objective, watch } of this.#watches)
        if (isCoarse(objective, step)) for (const count of counts) this.#count(watch, count);
    for (const row of cells) {
      const count = presentCount(row);
      this.#seen.set(cellName(row), { count, readAt: began });
      this.#addRecent(count);
      for (const { objective, watch } of this.#watches) if (isCoarse(objective, 'cell') || count.at >= minute) this.#count(watch, count);
    }
    this.#version = version;
  }

  /** The steps that long windows are read in, each with the earliest time needed. */
  #pastNeeded(now: number): Map<Step, number> {
    const needed = new Map<Step, number>();
    for (const { objective } of this.#watches) {
      const step = stepOf(objective.windowMs);
      if (step !== 'cell') needed.set(step, Math.min(needed.get(step) ?? now, now - objective.windowMs));
    }
    return needed;
  }

  #take(row: CellRow, began: number): void {
    const name = cellName(row);
    const before = this.#seen.get(name);
    if (before?.count.calls === Number(row.calls)) {
      before.readAt = began;
      return;
    }
    const count = presentCount(row);
    this.#seen.set(name, { count, readAt: began });
    const gained = before ? gain(before.count, count) : count;
    this.#addRecent(gained);
    for (const { watch } of this.#watches) this.#count(watch, gained);
  }

  /** What happens during planned work spends no error budget. */
  #count(watch: ObjectiveWatch, count: Count): void {
    const isPlanned = hasBudget(watch.objective) && this.#planned.some(({ from, until }) => count.at >= from && count.at < until);
    if (!isPlanned) watch.add(count);
  }

  #addRecent(count: Count): void {
    if (count.kind !== 'call') return;
    let cell = this.#recent.get(count.at);
    if (!cell) this.#recent.set(count.at, (cell = { tally: emptyTally(), shown: null }));
    addTally(cell.tally, tallyOf(count, []));
    cell.shown = null;
  }

  #conclude(now: number): { found: Evaluated; change: Change | null } {
    this.#forget(now);
    const findings = this.#watches.map(({ objective, watch }) => ({
      ...objective,
      ...watch.find(now, (kind) => this.#backlogOf(kind)),
    }));
    const recent = presentRecent(this.#recent, now);
    const seen = conditionOf(
      findings,
      recent.reduce((sum, { calls }) => sum + calls, 0),
    );
    const before = this.#settling.condition;
    this.#settling = settle(this.#settling, seen, now, this.damping);
    const found = {
      environmentId: this.environment.id,
      settling: this.#settling,
      findings: { version: this.#version, objectives: findings, recent },
    };
    return { found, change: this.#settling.condition === before ? null : changeTo(this.#settling, findings) };
  }

  #backlogOf(kind: string | undefined): number | null {
    if (kind !== undefined) return this.#backlog.get(kind) ?? null;
    return this.#backlog.size === 0 ? null : Math.max(...this.#backlog.values());
  }

  #forget(now: number): void {
    const began = this.#readAt ?? performance.now();
    for (const [name, { readAt }] of this.#seen) if (readAt < began - FORGET_MS) this.#seen.delete(name);
    for (const at of this.#recent.keys()) if (at < now - RECENT_MS - CELL_MS) this.#recent.delete(at);
  }
}

/** What a count has gained since it was read before. */
function gain(before: Count, after: Count): Count {
  const histogram = new Map(after.histogram);
  for (const [bucket, count] of before.histogram) {
    const left = (histogram.get(bucket) ?? 0) - count;
    if (left > 0) histogram.set(bucket, left);
    else histogram.delete(bucket);
  }
  return { ...after, calls: after.calls - before.calls, sumUs: after.sumUs - before.sumUs, histogram };
}

export const presentCell = (at: number, { calls, failed, refused, histogram }: Tally): RecentCell => {
  const [p95] = quantiles(histogram, [0.95]);
  return {
    at: new Date(at).toISOString(),
    calls,
    failed,
    refused,
    p95Ms: p95 === null || p95 === undefined ? null : Math.round(p95) / 1000,
  };
};

/** Cells with calls, in order of time. */
function presentRecent(cells: ReadonlyMap<number, Recent>, now: number): RecentCell[] {
  const from = now - RECENT_MS - CELL_MS;
  return [...cells]
    .filter(([at]) => at > from)
    .sort(([a], [b]) => a - b)
    .map(([at, cell]) => {
      cell.shown ??= presentCell(at, cell.tally);
      return cell.shown;
    });
}

export function changeTo(settling: Settling, findings: readonly (Objective & FindingValues)[]): Change {
  const { condition, since } = settling;
  const worst = condition === 'stressed' || condition === 'failing' ? worstFinding(findings, condition) : null;
  return {
    at: since,
    condition,
    objective: worst?.name ?? null,
    value: worst?.value ?? null,
    text: worst && worst.value !== null ? findingWords(worst, worst.value) : null,
  };
}
