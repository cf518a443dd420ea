/** The upstreams of each environment with their connections, kept until their rows change: at most a second behind another instance. */
import { LRUCache } from 'lru-cache';
import type { Environment } from '../../platform/call.js';
import { UpstreamConnection } from './calling.js';
import { KeptAnswers } from './keptAnswers.js';
import type { Parts } from './parts.js';
import { definitionOf, type UpstreamRow, type UpstreamStore } from './store.js';

const REMEMBER_MS = 1_000;
type Known = { mark: string; connections: ReadonlyMap<string, UpstreamConnection>; until: number };

export class UpstreamDirectory {
  readonly kept = new KeptAnswers();
  readonly #known = new LRUCache<string, Known>({
    max: 2_000,
    dispose: ({ connections }, _, reason) => {
      if (reason === 'evict') for (const connection of connections.values()) connection.close();
    },
  });

  constructor(
    private readonly parts: Parts,
    private readonly store: UpstreamStore,
  ) {}

  async find(environment: Environment, name: string): Promise<UpstreamConnection | null> {
    return (await this.all(environment)).get(name) ?? null;
  }

  async all(environment: Environment): Promise<ReadonlyMap<string, UpstreamConnection>> {
    const known = this.#known.get(environment.id);
    if (known && known.until > this.parts.now()) return known.connections;
    const mark = await this.store.mark(environment);
    const until = this.parts.now() + REMEMBER_MS;
    if (known?.mark === mark) {
      known.until = until;
      return known.connections;
    }
    const connections = await this.#open(environment, known?.connections ?? new Map());
    this.#known.set(environment.id, { mark, connections, until });
    return connections;
  }

  /** Those that did not change keep their connections, and what they know of the system's health. */
  async #open(environment: Environment, before: ReadonlyMap<string, UpstreamConnection>): Promise<Map<string, UpstreamConnection>> {
    const connections = new Map<string, UpstreamConnection>();
    for (const row of await this.store.list(environment)) {
      const open = before.get(row.name);
      const isSame = open?.row.changedAt.getTime() === row.changedAt.getTime();
      connections.set(row.name, isSame ? open : await this.#connect(environment, row));
      if (!isSame) this.kept.forget(`${environment.id} ${row.name} `);
    }
    for (const [name, open] of before) if (connections.get(name) !== open) open.close();
    return connections;
  }

  async #connect(environment: Environment, row: UpstreamRow): Promise<UpstreamConnection> {
    const { identify } = definitionOf(row);
    // Without its key, the check and each call say what is missing.
    const key =
      identify.way === 'certificate' ? await this.parts.functionPorts.secret(environment, identify.secret).catch(() => null) : null;
    return new UpstreamConnection(this.parts, environment, row, this.kept, this.store, key);
  }

  forget(environment: Environment): void {
    const known = this.#known.get(environment.id);
    if (known) known.until = 0;
  }

  close(): void {
    for (const { connections } of this.#known.values()) for (const connection of connections.values()) connection.close();
    this.#known.clear();
  }
}
