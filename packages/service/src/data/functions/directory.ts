/** The functions in force of each environment, as programs: at most a quarter of a second behind a change on another instance. */
import { LRUCache } from 'lru-cache';
import { storedJson } from '../../platform/database/storedJson.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import type { Program } from './sandbox/messages.js';
import type { FunctionRow, FunctionStore } from './store.js';

const REMEMBER_MS = 250;
export type InForce = {
  row: FunctionRow;
  methods: readonly string[];
  hosts: readonly string[];
  pattern: RegExp;
  names: readonly string[];
  program: Program;
};
type Known = { mark: string; endpoints: readonly InForce[]; until: number };

export class FunctionDirectory {
  readonly #known = new LRUCache<string, Known>({ max: 2_000 });

  constructor(
    private readonly parts: Parts,
    private readonly store: FunctionStore,
  ) {}

  /** The endpoints at a path, whatever their methods, with what its names in braces stand for. */
  async at(environment: Environment, path: string): Promise<{ endpoint: InForce; params: Record<string, string> }[]> {
    const found = (await this.#load(environment)).endpoints.flatMap((endpoint) => {
      const match = endpoint.pattern.exec(path);
      return match ? [{ endpoint, params: Object.fromEntries(endpoint.names.map((name, i) => [name, match[i + 1] as string])) }] : [];
    });
    // A path without names in braces is meant before one with them.
    return found.sort((a, b) => a.endpoint.names.length - b.endpoint.names.length);
  }

  async #load(environment: Environment): Promise<Known> {
    const known = this.#known.get(environment.id);
    if (known && known.until > this.parts.now()) return known;
    const mark = await this.store.mark(environment);
    const until = this.parts.now() + REMEMBER_MS;
    if (known?.mark === mark) {
      known.until = until;
      return known;
    }
    const rows = await this.store.inForce(environment);
    const endpoints = rows.map(({ row, built }) => inForce(row, JSON.parse(built) as Record<string, string>));
    const loaded = { mark, endpoints, until };
    this.#known.set(environment.id, loaded);
    return loaded;
  }

  forget(environment: Environment): void {
    this.#known.delete(environment.id);
  }
}

export function inForce(row: FunctionRow, files: Record<string, string>): InForce {
  const names: string[] = [];
  const pattern = row.path.replace(/\{(\w+)\}/g, (_, name: string) => {
    names.push(name);
    return '([^/]+)';
  });
  return {
    row,
    methods: storedJson(row.methods as never) as unknown as string[],
    hosts: storedJson(row.hosts as never) as unknown as string[],
    pattern: new RegExp(`^${pattern}$`),
    names,
    program: { files, main: 'main.js' },
  };
}
