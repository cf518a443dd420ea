/**
 * Events of an app on their way to the service: kept until they are taken, sent in batches, and when the app goes to the
 * background. Each has an id of its own, so one that is sent again counts once.
 */
import { Problem } from './problem.js';

export type EventProperties = Record<string, string | number | boolean | string[] | null>;
export type PendingEvent = { id: string; name: string; at: string; visit: string; properties?: EventProperties };
export type Refused = { name: string; problem: string; detail: string };
type Reply = { refused: { index: number; problem: string; detail: string }[] };

/** What a queue needs of the library around it. */
export type QueueGround = {
  read: () => Promise<PendingEvent[]>;
  write: (events: PendingEvent[]) => Promise<void>;
  send: (events: PendingEvent[]) => Promise<Reply>;
  now: () => number;
  newId: () => string;
  /** Told of each event that the service does not take: a mistake of the app. */
  onRefused: (refused: Refused) => void;
};

const VISIT_GAP_MS = 30 * 60_000;
const BATCH = 100;
/** Sent as soon as so many wait, or so long after the first. */
const ENOUGH = 20;
const SOON_MS = 10_000;
/** Without a connection, the oldest give way. */
const MOST_KEPT = 2_000;

export class EventQueue {
  #events: PendingEvent[] | null = null;
  #loading: Promise<PendingEvent[]> | null = null;
  #sending: Promise<void> | null = null;
  #timer: ReturnType<typeof setTimeout> | null = null;
  #visit: { id: string; lastAt: number } | null = null;

  constructor(private readonly ground: QueueGround) {
    const page = (globalThis as { document?: { visibilityState: string; addEventListener(type: string, heard: () => void): void } })
      .document;
    page?.addEventListener('visibilitychange', () => {
      if (page.visibilityState === 'hidden') void this.flush();
    });
  }

  async track(name: string, properties?: EventProperties): Promise<void> {
    const events = await this.#load();
    const at = this.ground.now();
    events.push({
      id: this.ground.newId(),
      name,
      at: new Date(at).toISOString(),
      visit: this.#visitAt(at),
      ...(properties ? { properties } : {}),
    });
    if (events.length > MOST_KEPT) events.splice(0, events.length - MOST_KEPT);
    await this.ground.write(events);
    if (events.length >= ENOUGH) void this.flush();
    else this.#sendSoon();
  }

  /** A visit ends after half an hour without an event. */
  #visitAt(at: number): string {
    if (!this.#visit || at - this.#visit.lastAt > VISIT_GAP_MS) this.#visit = { id: this.ground.newId(), lastAt: at };
    this.#visit.lastAt = at;
    return this.#visit.id;
  }

  /** Sends what waits; without a connection it stays, and goes with what comes next. */
  flush(): Promise<void> {
    this.#sending ??= this.#send().finally(() => {
      this.#sending = null;
    });
    return this.#sending;
  }

  async #send(): Promise<void> {
    if (this.#timer) clearTimeout(this.#timer);
    this.#timer = null;
    const events = await this.#load();
    while (events.length > 0) {
      const batch = events.slice(0, BATCH);
      const reply = await this.#try(batch);
      if (!reply) return;
      for (const { index, problem, detail } of reply.refused) this.ground.onRefused({ name: batch[index]?.name ?? '', problem, detail });
      events.splice(0, batch.length);
      await this.ground.write(events);
    }
  }

  /** @returns null where it should be tried again later */
  async #try(batch: PendingEvent[]): Promise<Reply | null> {
    try {
      return await this.ground.send(batch);
    } catch (error) {
      // What the service refuses as a whole would be refused again; a device that is not its own is a mistake of the app.
      if (error instanceof Problem && error.status >= 400 && error.status < 500 && error.status !== 401 && error.status !== 429)
        return { refused: batch.map((_, index) => ({ index, problem: error.problem, detail: error.detail })) };
      return null;
    }
  }

  #sendSoon(): void {
    if (this.#timer) return;
    this.#timer = setTimeout(() => void this.flush(), SOON_MS);
    (this.#timer as { unref?: () => void }).unref?.();
  }

  #load(): Promise<PendingEvent[]> {
    this.#loading ??= this.ground.read().then((kept) => (this.#events ??= kept));
    return this.#loading;
  }
}
