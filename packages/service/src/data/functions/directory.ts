/** The functions in force of each environment, as programs: at most a quarter of a second behind a change on another instance. */
import { createHash } from 'node:crypto';
import type { HookAction, HookOn, VersionPart } from '@orchard/contract';
import type { Combined, JsonObject } from '@orchard/core';
import { LRUCache } from 'lru-cache';
import { FILES } from '../collections/filesShape.js';
import type { Environment } from '../../platform/call.js';
import { COMBINED_FILE } from './combining.js';
import type { Parts } from './parts.js';
import type { Program } from './sandbox/messages.js';
import { type FunctionRow, held, partOf } from './rows.js';
import type { FunctionStore } from './store.js';

const REMEMBER_MS = 250;
export type Version = { version: number; program: Program };
export type InForce = Version & {
  row: FunctionRow;
  methods: readonly string[];
  hosts: readonly string[];
  on: HookOn | null;
  input: JsonObject | null;
  pattern: RegExp;
  names: readonly string[];
  /** A version that holds for some callers already. */
  part: (Version & Pick<VersionPart, 'users' | 'share'>) | null;
};
type Hooks = ReadonlyMap<string, readonly InForce[]>;
/** Which moments of the writes of a subject have hooks. */
export type Standing = { before: boolean; after: boolean };
const NOTHING: Standing = { before: false, after: false };
type Known = {
  mark: string;
  endpoints: readonly InForce[];
  hooks: Hooks;
  standing: ReadonlyMap<string, Standing>;
  all: ReadonlyMap<string, InForce>;
  until: number;
};

/** What a hook stands on, as a key. */
const standsOn = (moment: string, subject: string, action: string): string => `${moment} ${action} ${subject}`;
export const subjectOf = ({ collection, subject }: Pick<HookOn, 'collection' | 'subject'>): string =>
  collection ? `data/${collection}` : (subject as string);
/** Files are records of a collection of the service's own. */
const standingOn = (on: HookOn): HookOn => (on.subject === 'files' ? { ...on, collection: FILES } : on);

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

  /** Hooks in the order of their names. @param subject `data/` and the name of a collection, or one of the subjects */
  async hooks(environment: Environment, moment: HookOn['moment'], subject: string, action: HookAction): Promise<readonly InForce[]> {
    return (await this.#load(environment)).hooks.get(standsOn(moment, subject, action)) ?? [];
  }

  async standing(environment: Environment, subject: string): Promise<Standing> {
    return (await this.#load(environment)).standing.get(subject) ?? NOTHING;
  }

  /** All hooks of a moment. */
  async hooksOf(environment: Environment, moment: HookOn['moment'], action: HookAction): Promise<InForce[]> {
    const { all } = await this.#load(environment);
    return [...all.values()].filter(({ on }) => on?.moment === moment && on.actions.includes(action));
  }

  async named(environment: Environment, name: string): Promise<InForce | null> {
    return (await this.#load(environment)).all.get(name) ?? null;
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
    const loaded = { ...sorted(await this.store.inForce(environment)), mark, until };
    this.#known.set(environment.id, loaded);
    return loaded;
  }

  forget(environment: Environment): void {
    this.#known.delete(environment.id);
  }
}

function sorted(rows: { row: FunctionRow; version: number; built: string }[]): Pick<Known, 'endpoints' | 'hooks' | 'standing' | 'all'> {
  const all = new Map<string, InForce>();
  const hooks = new Map<string, InForce[]>();
  for (const { row, version, built } of rows.filter((one) => one.version === one.row.version))
    all.set(row.name, inForce(row, version, JSON.parse(built)));
  for (const { row, version, built } of rows) {
    const one = all.get(row.name);
    const part = partOf(row);
    if (one && part?.version === version) one.part = { ...part, program: programOf(JSON.parse(built)) };
  }
  const standing = new Map<string, Standing>();
  for (const { on } of all.values()) {
    if (!on?.actions.some((action) => action !== 'read' && action !== 'list')) continue;
    const { before, after } = standing.get(subjectOf(on)) ?? NOTHING;
    standing.set(subjectOf(on), { before: before || on.moment === 'before', after: after || on.moment === 'after' });
  }
  for (const one of all.values())
    for (const action of one.on?.actions ?? []) {
      const key = standsOn((one.on as HookOn).moment, subjectOf(one.on as HookOn), action);
      hooks.set(key, [...(hooks.get(key) ?? []), one]);
    }
  return { all, hooks, standing, endpoints: [...all.values()].filter(({ row }) => row.kind === 'endpoint') };
}

const programOf = (files: Record<string, string>): Program => ({
  files,
  main: 'main.js',
  ...(files[COMBINED_FILE] === undefined ? {} : { combined: JSON.parse(files[COMBINED_FILE]) as Combined }),
});

export function inForce(row: FunctionRow, version: number, files: Record<string, string>): InForce {
  const names: string[] = [];
  const pattern = row.path.replace(/\{(\w+)\}/g, (_, name: string) => {
    names.push(name);
    return '([^/]+)';
  });
  return {
    row,
    version,
    program: programOf(files),
    methods: held(row.methods),
    hosts: held(row.hosts),
    on: row.on ? standingOn(held<HookOn>(row.on)) : null,
    input: row.input ? held<JsonObject>(row.input) : null,
    pattern: new RegExp(`^${pattern}$`),
    names,
    part: null,
  };
}

/** The version that holds for a caller: a user always gets the same one. */
export function versionFor({ row, version, program, part }: InForce, userId: string | null): Version {
  if (!part) return { version, program };
  const isNamed = userId !== null && part.users.includes(userId);
  return isNamed || placeOf(row.name, part.version, userId) < part.share ? part : { version, program };
}

/** A number from 0 to 1, which stays the same for a user. */
function placeOf(name: string, version: number, userId: string | null): number {
  if (userId === null) return Math.random();
  return createHash('sha256').update(`${name} ${version} ${userId}`).digest().readUInt32BE(0) / 2 ** 32;
}
