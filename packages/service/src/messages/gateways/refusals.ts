/**
 * Gateways whose credentials their network refuses: sending there stops, deliveries wait, and the team gets a notice. Once a
 * minute one message tests whether the credential is accepted again.
 */
import type { Environment } from '../../platform/call.js';
import type { Notices } from '../../setup/notices/noticeStore.js';
import { type GatewayRow, GatewayStore } from './store.js';

/** After this one message may test the gateway again. */
export const HELD_MS = 60_000;
const MOST_WORDS = 500;

type Held = { until: number; words: string };
type Row = Pick<GatewayRow, 'id' | 'name' | 'updatedAt'>;

export class GatewayRefusals {
  readonly #held = new Map<string, Held>();
  readonly #store = new GatewayStore();

  constructor(
    private readonly notices: Notices,
    private readonly now: () => number,
  ) {}

  /** Why and until when nothing is sent through a gateway; null when it is open. */
  heldBy({ id, refusedAt, refusal }: Pick<GatewayRow, 'id' | 'refusedAt' | 'refusal'>): Held | null {
    const held = this.#held.get(id);
    if (held) return held.until > this.now() ? held : null;
    // Another instance was refused: this one waits as long.
    const until = (refusedAt?.getTime() ?? 0) + HELD_MS;
    return until > this.now() ? { until, words: refusal ?? '' } : null;
  }

  /** The network refused; of many concurrent refusals, the first is recorded. */
  async note(environment: Environment, row: Row, words: string): Promise<void> {
    const before = this.#held.get(row.id);
    this.#held.set(row.id, { until: this.now() + HELD_MS, words });
    if (before && before.until > this.now()) return;
    const refusal = words.slice(0, MOST_WORDS);
    await this.#store.update(environment, row.id, { refusedAt: new Date(this.now()), refusal });
    const place = `${environment.app}/${environment.name}`;
    await this.notices.tell({
      kind: 'gateway',
      environmentId: environment.id,
      once: `gateway ${row.id} refused ${row.updatedAt.toISOString()}`,
      title: `The credential of gateway ${row.name} is rejected`,
      body: `${words} Messages of ${place} through ${row.name} wait until it accepts a credential again. Upload a new one under Messages, Gateways.`,
      link: `/${place}/gateways?open=${row.name}`,
    });
  }

  /** A message went through, or the credential was changed. */
  async clear(environment: Environment, { id, refusedAt }: Pick<GatewayRow, 'id' | 'refusedAt'>): Promise<void> {
    if (!this.#held.delete(id) && !refusedAt) return;
    await this.#store.update(environment, id, { refusedAt: null, refusal: null });
  }
}
