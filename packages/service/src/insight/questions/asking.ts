/** Asks the threads: a question that adds up goes to all of them, by shares of the people; another one to the idlest. */
import { availableParallelism } from 'node:os';
import { grouped } from '@orchard/core';
import {
  type CountPart,
  DAY_MS,
  type FunnelPart,
  type GroupKey,
  type InsightEvent,
  inSharedMemory,
  isBeyond,
  joinCounts,
  joinFunnels,
  type PeopleShare,
  sharesOf,
  topGroups,
} from '@orchard/core/insight';
import type { Logger } from 'pino';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import type { EventParts } from '../events/capability.js';
import { readEvents } from '../events/eventStore.js';
import { eventsOfRows } from '../events/packing.js';
import type { KnownPeople } from '../events/peopleStore.js';
import { packedDays } from '../events/segmentStore.js';
import { type OpenDay, OpenDays } from './openDays.js';
import type { Answers, SharedPeople, Spec } from './spec.js';
import { QuestionThread } from './thread.js';

const MOST_THREADS = Math.min(4, availableParallelism());
/** Days that go to the threads together: a message costs as much as some ten thousand rows. */
const [DAYS_TOGETHER, ROWS_TOGETHER] = [8, 1_000_000];

/** Days read so far, of how many. */
export type QuestionProgress = { done: number; total: number };
/** Who waits for an answer. */
export type Watch = {
  /** Ends the work when nobody waits any more. */
  signal?: AbortSignal | undefined;
  progress?: ((progress: QuestionProgress) => void) | undefined;
};
export type Reading = { from: number; until: number /** Besides those that every question needs. */; columns: readonly string[] };
type SharedSpec = Extract<Spec, { kind: 'count' | 'funnel' }>;

const addsUp = (spec: Spec): spec is SharedSpec => spec.kind === 'count' || spec.kind === 'funnel';

export class Asking {
  readonly #days = new OpenDays();
  readonly #people = new Map<string, SharedPeople & { version: number }>();
  #threads: QuestionThread[] = [];
  #next = 1;

  constructor(
    private readonly events: EventParts,
    private readonly log: Logger,
    private readonly now: () => number,
  ) {}

  async ask<Kind extends Spec['kind']>(
    db: EnvironmentDatabase,
    spec: Extract<Spec, { kind: Kind }>,
    reading: Reading,
    watch: Watch = {},
  ): Promise<{ answer: Answers[Kind]; people: KnownPeople }> {
    const threads = this.#running();
    const one = threads.reduce((idlest, thread) => (thread.questions < idlest.questions ? thread : idlest));
    const whole = () => this.#askOf(db, spec, reading, watch, [one], ([asked]) => (asked as AskedThread).answer());
    if (!addsUp(spec) || threads.length === 1) return (await whole()) as { answer: Answers[Kind]; people: KnownPeople };
    const { answer, people } = await this.#askOf(db, spec, reading, watch, threads, (asked) => join(spec, asked));
    // Which values are beyond those told apart depends on who is looked at.
    return (answer === null ? await whole() : { answer, people }) as { answer: Answers[Kind]; people: KnownPeople };
  }

  async #askOf<Answer>(
    db: EnvironmentDatabase,
    spec: Spec,
    reading: Reading,
    watch: Watch,
    threads: readonly QuestionThread[],
    answerOf: (asked: readonly AskedThread[]) => Promise<Answer>,
  ): Promise<{ answer: Answer; people: KnownPeople }> {
    const asked = threads.map((thread) => new AskedThread(thread, this.#next++));
    const used: OpenDay[] = [];
    let aliases = 0;
    try {
      // Everything is read as of one moment, so that packing meanwhile changes nothing.
      const people = await db.unit(async () => {
        const known = await this.events.people.known(db);
        const shared = this.#share(db, known);
        aliases = shared.aliases;
        const shares = sharesOf(known.count, threads.length, threads.length > 1 ? this.#days.segmentsOf(db) : []);
        for (const [i, one] of asked.entries()) one.begin(spec, shared, this.now(), threads.length > 1 ? (shares[i] as PeopleShare) : null);
        await this.#lookThrough(db, asked, reading, watch, { used, people: shared });
        return known;
      });
      return { answer: await answerOf(asked), people };
    } finally {
      for (const one of asked) one.end();
      this.#days.release(used, aliases, this.#threads);
    }
  }

  /** Looks through the days of a period in order, each with what is packed and what is not. */
  async #lookThrough(
    db: EnvironmentDatabase,
    asked: readonly AskedThread[],
    { from, until, columns }: Reading,
    { signal, progress }: Watch,
    { used, people }: { used: OpenDay[]; people: SharedPeople },
  ): Promise<void> {
    const packed = new Map((await packedDays(db, from, until)).map((row) => [Date.parse(row.day), row]));
    const rows = await readEvents(db, from, until);
    const extra = grouped(await eventsOfRows(db, this.events.contexts, rows), ({ at }) => Math.floor(at / DAY_MS) * DAY_MS);
    const days = [...new Set([...packed.keys(), ...extra.keys()])].sort((a, b) => a - b);
    const open = async (at: number): Promise<DayToHand> => {
      const row = packed.get(at);
      const day = row ? await this.#days.use(db, row, columns, people, this.#running()) : null;
      if (day) used.push(day);
      return { at, day, extra: extra.get(at) ?? [] };
    };
    const [first = [], ...others] = together(days, (at) => packed.get(at)?.rows ?? 0);
    let opening = allOf(first.map(open));
    let done = 0;
    try {
      for (const next of [...others, []]) {
        const some = await opening;
        signal?.throwIfAborted();
        // The next days are read while the threads look through these.
        opening = allOf(next.map(open));
        await Promise.all(asked.map((one) => one.look(this.#days, some)));
        done += some.length;
        progress?.({ done, total: days.length });
      }
    } finally {
      await opening.catch(() => undefined);
    }
  }

  #share(db: EnvironmentDatabase, { count, alias, firstSeen, aliases, version }: KnownPeople): SharedPeople {
    const known = this.#people.get(db.name);
    if (known?.version === version) return known;
    const shared = { count, alias: inSharedMemory(alias), firstSeen: inSharedMemory(firstSeen), aliases, version };
    this.#people.set(db.name, shared);
    return shared;
  }

  #running(): QuestionThread[] {
    if (this.#threads.length === 0)
      this.#threads = Array.from({ length: MOST_THREADS }, () => new QuestionThread((error) => this.#lost(error)));
    return this.#threads;
  }

  /** A thread died: what waited fails, and the next question starts others. */
  #lost(error: Error): void {
    if (this.#threads.length === 0) return;
    this.log.error({ err: error }, 'a thread for questions died');
    void this.stop();
  }

  async stop(): Promise<void> {
    const threads = this.#threads;
    this.#threads = [];
    this.#days.clear();
    await Promise.all(threads.map((thread) => thread.stop()));
  }
}

function together(days: readonly number[], rowsOf: (day: number) => number): number[][] {
  const all: number[][] = [];
  let rows = Number.POSITIVE_INFINITY;
  for (const day of days) {
    const own = rowsOf(day);
    const last = all.at(-1);
    if (!last || last.length >= DAYS_TOGETHER || rows + own > ROWS_TOGETHER) {
      all.push([day]);
      rows = own;
    } else {
      last.push(day);
      rows += own;
    }
  }
  return all;
}

type DayToHand = { at: number; day: OpenDay | null; extra: InsightEvent[] };

/** Like Promise.all, but when one fails the others have ended too, and it may be looked at later. */
function allOf<Value>(promises: readonly Promise<Value>[]): Promise<Value[]> {
  const all = Promise.allSettled(promises).then(() => Promise.all(promises));
  all.catch(() => undefined);
  return all;
}

/** One question in one thread. */
class AskedThread {
  constructor(
    private readonly thread: QuestionThread,
    private readonly id: number,
  ) {
    thread.questions++;
  }

  begin(spec: Spec, people: SharedPeople, now: number, share: PeopleShare | null): void {
    this.thread.tell({ call: 'begin', id: this.id, spec, people, now, share });
  }

  async look(open: OpenDays, some: readonly DayToHand[]): Promise<void> {
    for (const { day } of some) if (day) open.hand(day, this.thread);
    const days = some.map(({ at, day, extra }) => ({ key: day?.key ?? null, at, extra }));
    await this.thread.call('days', { id: this.id, days });
  }

  answer = () => this.thread.call('answer', { id: this.id });
  sizes = () => this.thread.call('sizes', { id: this.id });
  part = (top: GroupKey[] = []) => this.thread.call('part', { id: this.id, top });

  end(): void {
    this.thread.questions--;
    this.thread.tell({ call: 'end', id: this.id });
  }
}

/** Puts the answers for shares of the people together; null where only one thread can answer. */
async function join(spec: SharedSpec, asked: readonly AskedThread[]): Promise<Answers['count'] | Answers['funnel'] | null> {
  if (spec.kind === 'funnel') {
    const parts = (await Promise.all(asked.map((one) => one.part()))) as FunnelPart[];
    return parts.some(({ groups }) => groups.some(({ group }) => isBeyond(group))) ? null : joinFunnels(spec.question, parts);
  }
  const sizes = await Promise.all(asked.map((one) => one.sizes()));
  if (sizes.flat().some(([group]) => isBeyond(group))) return null;
  const top = topGroups(spec.question, sizes);
  return joinCounts(spec.question, top, (await Promise.all(asked.map((one) => one.part(top.keys)))) as CountPart[]);
}
