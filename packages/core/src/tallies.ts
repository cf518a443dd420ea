/** What objectives are measured on: counts of calls and other work, and their sums over a window that moves on. */
import { type Histogram, mergeInto } from './histogram.js';

/** What was counted in a window. */
export type Tally = {
  calls: number;
  failed: number;
  refused: number;
  /** Sum of all durations, microseconds. */
  sumUs: number;
  /** Durations, microseconds. */
  histogram: Histogram;
};

/** Calls that came in, and work the service did: exchanges with gateways, runs of jobs and of functions. */
export const COUNTED_KINDS = ['call', 'gateway', 'job', 'function'] as const;
/** The same calls once more, not by route but by what called: the app's version, the device's country. */
export const CALLER_KINDS = ['version', 'country'] as const;
export type CallerKind = (typeof CALLER_KINDS)[number];
export type CountedKind = (typeof COUNTED_KINDS)[number] | CallerKind;

/** One count: how often something ended in one way within one step of time. */
export type Count = {
  /** Start of the step, milliseconds since 1970. */
  at: number;
  kind: CountedKind;
  /** Of a call; empty for other work. */
  method: string;
  /** The route of a call, the name of a gateway, the kind of a job, the name of a function, the version or country that called; empty where it is not known. */
  route: string;
  /** The collection or channel that a route names; empty where it names none. */
  target: string;
  /** Empty where no client is known. */
  client: string;
  status: number;
  /** The problem answered; empty without one. */
  problem: string;
  calls: number;
  sumUs: number;
  histogram: Histogram;
};

/** What an objective speaks of. Without a name, all gateways, jobs or functions. */
export type Subject =
  | { of: 'calls' }
  | { of: 'client'; name: string }
  | { of: 'route'; method: string; route: string; target?: string | undefined }
  | { of: 'gateway'; name?: string | undefined }
  | { of: 'jobs'; kind?: string | undefined }
  | { of: 'function'; name?: string | undefined };

export const emptyTally = (): Tally => ({ calls: 0, failed: 0, refused: 0, sumUs: 0, histogram: new Map() });

/** *Failed* is a 5xx or no answer, *refused* a 4xx. */
export const hasFailed = (status: number): boolean => status >= 500 || status === 0;
export const wasRefused = (status: number): boolean => status >= 400 && status < 500;

/** Whether a count belongs to a subject. */
export function isAbout(subject: Subject, count: Pick<Count, 'kind' | 'method' | 'route' | 'target' | 'client'>): boolean {
  switch (subject.of) {
    case 'calls':
      return count.kind === 'call';
    case 'client':
      return count.kind === 'call' && count.client === subject.name;
    case 'route':
      return (
        count.kind === 'call' &&
        count.method === subject.method &&
        count.route === subject.route &&
        (subject.target === undefined || count.target === subject.target)
      );
    case 'gateway':
      return count.kind === 'gateway' && (subject.name === undefined || count.route === subject.name);
    case 'jobs':
      return count.kind === 'job' && (subject.kind === undefined || count.route === subject.kind);
    case 'function':
      return count.kind === 'function' && (subject.name === undefined || count.route === subject.name);
  }
}

/** The tally of one count; a problem that is left out counts as an answered call. */
export function tallyOf(count: Pick<Count, 'status' | 'problem' | 'calls' | 'sumUs' | 'histogram'>, leaveOut: readonly string[]): Tally {
  const { status, problem, calls, sumUs, histogram } = count;
  const isBad = !leaveOut.includes(problem);
  return {
    calls,
    failed: isBad && hasFailed(status) ? calls : 0,
    refused: isBad && wasRefused(status) ? calls : 0,
    sumUs,
    histogram,
  };
}

/** Adds a tally to another, or takes it away. */
export function addTally(to: Tally, tally: Tally, sign: 1 | -1 = 1): void {
  to.calls += sign * tally.calls;
  to.failed += sign * tally.failed;
  to.refused += sign * tally.refused;
  to.sumUs += sign * tally.sumUs;
  if (sign === 1) return mergeInto(to.histogram, tally.histogram);
  for (const [bucket, count] of tally.histogram) {
    const left = (to.histogram.get(bucket) ?? 0) - count;
    if (left > 0) to.histogram.set(bucket, left);
    else to.histogram.delete(bucket);
  }
}

export const CELL_MS = 10_000;
const MINUTE_MS = 60_000;
const HOUR_MS = 60 * MINUTE_MS;
const DAY_MS = 24 * HOUR_MS;

/** The steps in which counts are kept, from the shortest. */
export const STEPS = { cell: CELL_MS, minute: MINUTE_MS, hour: HOUR_MS, day: DAY_MS } as const;
export type Step = keyof typeof STEPS;

/** The step in which a window of this length moves on: small beside the window, so that few have to be kept. */
export function stepOf(windowMs: number): Step {
  if (windowMs <= 15 * MINUTE_MS) return 'cell';
  if (windowMs <= 6 * HOUR_MS) return 'minute';
  return windowMs <= 7 * DAY_MS ? 'hour' : 'day';
}

/** A sum over the last steps of time, kept up as counts come in and time goes on. */
export class TallyWindow {
  readonly total = emptyTally();
  readonly #steps = new Map<number, Tally>();
  readonly #stepMs: number;
  readonly #count: number;

  constructor(windowMs: number) {
    this.#stepMs = STEPS[stepOf(windowMs)];
    this.#count = Math.max(1, Math.ceil(windowMs / this.#stepMs));
  }

  /** Start of the window that contains a time, milliseconds since 1970. */
  startAt(now: number): number {
    return this.#stepStart(now) - (this.#count - 1) * this.#stepMs;
  }

  /** Adds what was counted at a time; {@link advance} drops it again when it is too old. */
  add(at: number, tally: Tally): void {
    const start = this.#stepStart(at);
    let step = this.#steps.get(start);
    if (!step) this.#steps.set(start, (step = emptyTally()));
    addTally(step, tally);
    addTally(this.total, tally);
  }

  /** Takes what is older than the window out of the sum. */
  advance(now: number): void {
    const from = this.startAt(now);
    for (const [start, step] of this.#steps) {
      if (start >= from) continue;
      addTally(this.total, step, -1);
      this.#steps.delete(start);
    }
  }

  /** The sum of the latest part of the window. */
  latest(now: number, ms: number): Tally {
    const from = this.#stepStart(now - ms) + this.#stepMs;
    const sum = emptyTally();
    for (const [start, step] of this.#steps) if (start >= from) addTally(sum, step);
    return sum;
  }

  #stepStart(at: number): number {
    return Math.floor(at / this.#stepMs) * this.#stepMs;
  }
}
