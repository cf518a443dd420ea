/**
 * Sends traces, logs and metrics to a collector (OTLP/HTTP, JSON). What is to be sent gathers in memory up to a bound; beyond it,
 * and while the collector does not answer for long, the oldest is dropped and counted. Nothing waits for it.
 */
import { type Attributes, exportOf, metricsOf, type Point } from '@orchard/core';
import type { Logger } from 'pino';
import { request } from 'undici';

const FLUSH_MS = 2_000;
const MOST_WAITING = 10_000;
const MOST_AT_ONCE = 2_000;
const ANSWER_WITHIN_MS = 5_000;

type Kind = 'traces' | 'logs';
type Counted = { attributes: Attributes; count: number };

export class OtlpExporter {
  readonly #waiting: Record<Kind, object[]> = { traces: [], logs: [] };
  readonly #counts = new Map<string, Counted>();
  #countedFrom: number;
  #dropped = 0;
  #failing = false;
  #timer: NodeJS.Timeout | null = null;
  #sending: Promise<void> = Promise.resolve();

  /** @param address of the collector, without `/v1/traces` */
  constructor(
    private readonly address: string,
    private readonly resource: Attributes,
    private readonly now: () => number,
    private readonly log: Logger,
  ) {
    this.#countedFrom = now();
  }

  start(): void {
    this.#timer = setInterval(() => void this.flush(), FLUSH_MS);
  }

  /** Takes spans or log records, without I/O. */
  add(kind: Kind, items: readonly object[]): void {
    const waiting = this.#waiting[kind];
    waiting.push(...items);
    if (waiting.length > MOST_WAITING) this.#dropped += waiting.splice(0, waiting.length - MOST_WAITING).length;
  }

  /** Counts a call for the metric `orchard.calls`. */
  count(key: string, attributes: () => Attributes): void {
    const known = this.#counts.get(key);
    if (known) known.count++;
    else this.#counts.set(key, { attributes: attributes(), count: 1 });
  }

  /** Sends what has gathered. One export at a time. */
  flush(): Promise<void> {
    this.#sending = this.#sending.then(async () => {
      for (const kind of ['traces', 'logs'] as const) await this.#flushKind(kind);
      await this.#flushCounts();
    });
    return this.#sending;
  }

  async #flushKind(kind: Kind): Promise<void> {
    while (this.#waiting[kind].length > 0) {
      const items = this.#waiting[kind].splice(0, MOST_AT_ONCE);
      if (await this.#send(kind, exportOf(kind, this.resource, items))) continue;
      this.#waiting[kind].unshift(...items);
      return;
    }
  }

  async #flushCounts(): Promise<void> {
    if (this.#counts.size === 0) return;
    const until = this.now();
    const points: Point[] = [...this.#counts.values()].map((one) => ({
      name: 'orchard.calls',
      unit: '{call}',
      ...one,
      from: this.#countedFrom,
      until,
    }));
    if (this.#dropped > 0)
      points.push({ name: 'orchard.otlp.dropped', unit: '1', attributes: {}, count: this.#dropped, from: this.#countedFrom, until });
    if (!(await this.#send('metrics', exportOf('metrics', this.resource, metricsOf(points))))) return;
    this.#counts.clear();
    this.#dropped = 0;
    this.#countedFrom = until;
  }

  /** OTLP/HTTP section "OTLP/HTTP Request". @returns whether it is over, also where the collector will never take it */
  async #send(kind: Kind | 'metrics', body: object): Promise<boolean> {
    try {
      const reply = await request(`${this.address}/v1/${kind}`, {
        method: 'POST',
        headers: { 'content-type': 'application/json' },
        body: JSON.stringify(body),
        headersTimeout: ANSWER_WITHIN_MS,
        bodyTimeout: ANSWER_WITHIN_MS,
      });
      await reply.body.dump();
      // Section "Retryable Response Codes".
      const isRetryable = [429, 502, 503, 504].includes(reply.statusCode);
      this.#note(isRetryable || reply.statusCode >= 400 ? `it answered ${reply.statusCode}` : null);
      return !isRetryable;
    } catch (error) {
      this.#note((error as Error).message);
      return false;
    }
  }

  /** Once when it begins to fail, and once when it works again. */
  #note(failure: string | null): void {
    if (failure !== null && !this.#failing) this.log.warn({ reason: failure }, 'the OTLP collector does not take what is sent');
    if (failure === null && this.#failing) this.log.info('the OTLP collector takes what is sent again');
    this.#failing = failure !== null;
  }

  async stop(): Promise<void> {
    if (this.#timer) clearInterval(this.#timer);
    await this.flush();
  }
}
