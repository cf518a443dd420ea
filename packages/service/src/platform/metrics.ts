/** The text of /metrics: OpenMetrics 1.0. */
import { Counter, collectDefaultMetrics, Gauge, Histogram, Registry } from 'prom-client';
import type { Environment } from './call.js';

export class Metrics {
  readonly registry = new Registry<typeof Registry.OPENMETRICS_CONTENT_TYPE>();
  readonly #dropped = new Counter({
    name: 'orchard_unrecorded_calls',
    help: 'Calls that could not be recorded because the database was unavailable for too long',
    registers: [this.registry],
  });
  readonly #calls = new Counter({
    name: 'orchard_calls',
    help: 'Calls answered',
    labelNames: ['app', 'environment', 'method', 'route', 'status'],
    registers: [this.registry],
  });
  readonly #seconds = new Histogram({
    name: 'orchard_call_seconds',
    help: 'Time from receiving a call to its response',
    labelNames: ['app', 'environment'],
    buckets: [0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10],
    registers: [this.registry],
  });
  readonly #upkeepFailures = new Counter({
    name: 'orchard_upkeep_failures',
    help: 'Failed upkeep, by task',
    labelNames: ['work'],
    registers: [this.registry],
  });
  readonly #evaluation = new Gauge({
    name: 'orchard_condition_evaluation_seconds',
    help: 'How long the latest evaluation of all environments took, on the instance that evaluates',
    registers: [this.registry],
  });
  readonly #statements = new Gauge({
    name: 'orchard_database_statements',
    help: 'Prepared statements on the database server, for all of its clients, and its limit',
    labelNames: ['of'],
    registers: [this.registry],
  });
  /** Looking up a label set by name is expensive; each is resolved once. */
  readonly #labelled = new Map<string, { calls: Counter.Internal; seconds: Histogram.Internal<string> }>();

  constructor() {
    this.registry.setContentType(Registry.OPENMETRICS_CONTENT_TYPE);
    collectDefaultMetrics({ register: this.registry });
  }

  count(environment: Environment | null, method: string, route: string, status: number, durationUs: number): void {
    const name = `${environment?.id} ${method} ${route} ${status}`;
    let labelled = this.#labelled.get(name);
    if (!labelled) {
      const of = { app: environment?.app ?? '', environment: environment?.name ?? '' };
      labelled = { calls: this.#calls.labels({ ...of, method, route, status: String(status) }), seconds: this.#seconds.labels(of) };
      this.#labelled.set(name, labelled);
    }
    labelled.calls.inc();
    labelled.seconds.observe(durationUs / 1e6);
  }

  countUpkeepFailure(work: string): void {
    this.#upkeepFailures.labels(work).inc();
  }

  setStatements(prepared: number, most: number): void {
    this.#statements.labels('prepared').set(prepared);
    this.#statements.labels('most').set(most);
  }

  setEvaluation(seconds: number): void {
    this.#evaluation.set(seconds);
  }

  countDropped(): void {
    this.#dropped.inc();
  }
}
