/** Counts that gather in memory between two writes. A count is written whole each time, so that a write may be repeated. */
import { addValue, type Count, type CountedKind } from '@orchard/core';

/** What is counted: one call that has ended, or one piece of other work. */
export type Counted = {
  kind: CountedKind;
  method: string;
  route: string;
  target: string;
  client: string;
  status: number;
  problem: string;
  durationUs: number;
};

/** Above this many different counts in one step, targets and versions are no longer told apart: they come from callers. */
const MOST_TOLD_APART = 2_000;

export class Counts {
  readonly #counts = new Map<string, Count>();
  #changed = new Set<string>();

  /** @param stepMs length of a step @param keepMs how long a count can still grow after its step began */
  constructor(
    private readonly stepMs: number,
    private readonly keepMs: number,
  ) {}

  add(at: number, counted: Counted): void {
    const start = Math.floor(at / this.stepMs) * this.stepMs;
    const { kind, method, client, status, problem, durationUs } = counted;
    const isToldApart = this.#counts.size < MOST_TOLD_APART;
    const target = isToldApart ? counted.target : '';
    const route = isToldApart || kind !== 'version' ? counted.route : '';
    const name = `${start} ${kind} ${method} ${route} ${target} ${client} ${status} ${problem}`;
    let count = this.#counts.get(name);
    if (!count)
      this.#counts.set(
        name,
        (count = { at: start, kind, method, route, target, client, status, problem, calls: 0, sumUs: 0, histogram: new Map() }),
      );
    count.calls++;
    count.sumUs += durationUs;
    addValue(count.histogram, durationUs);
    this.#changed.add(name);
  }

  get hasChanges(): boolean {
    return this.#changed.size > 0;
  }

  /** Takes what changed since it was last taken. */
  take(): { counts: Count[]; names: ReadonlySet<string> } {
    const names = this.#changed;
    this.#changed = new Set();
    return { counts: [...names].flatMap((name) => this.#counts.get(name) ?? []), names };
  }

  /** What was taken could not be written. */
  giveBack(names: ReadonlySet<string>): void {
    for (const name of names) this.#changed.add(name);
  }

  /** Forgets what is written and can no longer grow. */
  forgetPast(now: number): void {
    for (const [name, { at }] of this.#counts) if (at + this.keepMs < now && !this.#changed.has(name)) this.#counts.delete(name);
  }
}
