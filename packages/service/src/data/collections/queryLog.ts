/** The cost of lists, counted by form and written every few seconds; index suggestions are based on it. */
import { createHash } from 'node:crypto';
import { formOf, type ListForm, maskSecrets, readFilter, grouped } from '@orchard/core';
import { LRUCache } from 'lru-cache';
import type { Logger } from 'pino';
import { isDatabaseAway } from '../../platform/database/errors.js';
import type { Environment } from '../../platform/call.js';
import { kindIn, type CollectionShape } from './shape.js';
import { addCosts } from './queryStore.js';

type Asked = { filter?: string | undefined; sort?: string | undefined };
type Count = {
  environment: Environment;
  collection: string;
  form: string;
  shape: ListForm;
  example: string;
  calls: number;
  totalUs: number;
  worstUs: number;
  lastAt: number;
};

const FLUSH_MS = 5_000;

export class QueryLog {
  readonly #counts = new Map<string, Count>();
  readonly #forms = new LRUCache<string, { form: string; shape: ListForm }>({ max: 2_000 });
  #timer: NodeJS.Timeout | undefined;

  constructor(
    private readonly now: () => number,
    private readonly log: Logger,
  ) {}

  start(): void {
    this.#timer = setInterval(() => void this.flush(), FLUSH_MS);
  }

  async stop(): Promise<void> {
    clearInterval(this.#timer);
    await this.flush();
  }

  /** Counts one list. */
  note(environment: Environment, shape: CollectionShape, asked: Asked, durationUs: number): void {
    const { form, shape: listForm } = this.#form(shape, asked);
    const key = `${environment.id} ${shape.name} ${form}`;
    let count = this.#counts.get(key);
    if (!count) {
      const example =
        [asked.filter ? `filter: ${asked.filter}` : '', asked.sort ? `sort: ${asked.sort}` : ''].filter(Boolean).join(', ') || 'everything';
      count = {
        environment,
        collection: shape.name,
        form,
        shape: listForm,
        example: maskSecrets(example).slice(0, 2000),
        calls: 0,
        totalUs: 0,
        worstUs: 0,
        lastAt: 0,
      };
      this.#counts.set(key, count);
    }
    count.calls++;
    count.totalUs += durationUs;
    count.worstUs = Math.max(count.worstUs, durationUs);
    count.lastAt = this.now();
  }

  /** The filter was just read without error; here only references count as texts. */
  #form(shape: CollectionShape, { filter, sort }: Asked): { form: string; shape: ListForm } {
    const key = `${shape.table} ${filter ?? ''} ${sort ?? ''}`;
    const known = this.#forms.get(key);
    if (known) return known;
    const scope = {
      kindOf: (path: readonly string[]) => (path.length === 1 ? kindIn(shape, path[0] as string, true) : 'text'),
      names: () => [],
    } as const;
    let listForm: ListForm;
    try {
      listForm = formOf(
        filter?.trim() ? readFilter(filter, scope as never) : null,
        (sort ?? '')
          .split(',')
          .map((term) => term.trim())
          .filter(Boolean),
      );
    } catch {
      listForm = { equal: [], range: [], places: [], sort: [] };
    }
    const made = { form: createHash('sha256').update(JSON.stringify(listForm)).digest('base64url').slice(0, 22), shape: listForm };
    this.#forms.set(key, made);
    return made;
  }

  async flush(): Promise<void> {
    const counts = [...this.#counts.values()];
    this.#counts.clear();
    try {
      for (const some of grouped(counts, ({ environment }) => environment.id).values()) {
        const [{ environment }] = some as [Count];
        await addCosts(
          environment.db,
          some.map((one) => ({ ...one, lastAt: new Date(one.lastAt) })),
        );
      }
    } catch (error) {
      // A few seconds of counts are not worth a failing call.
      if (!isDatabaseAway(error)) this.log.warn({ err: error }, 'the costs of lists could not be written');
    }
  }
}
