/** Bringing the local copy up to date: scopes are filled, followed, and from time to time compared with the service. */
import type { SyncPulled, SyncScope, SyncScopeChanges } from '@orchard/contract';
import type { Json } from '@orchard/core';
import { byId, digestRanges, type Held } from '@orchard/core/sync';
import type { Local } from './local.js';
import type { Batch, LocalRecord, Row, Scope, ScopeState } from './types.js';

export type PullGround = {
  local: Local;
  scopes: readonly Scope[];
  pull: (body: { scopes: SyncScope[]; limit?: number; pending: number; conflicts: number }) => Promise<SyncPulled>;
  now: () => number;
  /** Told of scopes that the service refuses. */
  onProblem: (scope: Scope, problem: { detail: string; status: number }) => void;
};
/** What came and went. */
export type Pulled = { received: number; gone: number };

const COMPARE_EVERY_MS = 24 * 3_600_000;
/** A table of another server has no change feed: it is read again after this. */
const OUTSIDE_AGAIN_MS = 5 * 60_000;
const IDS_AT_ONCE = 1_000;
const FOR_BRINGING = 'for ';

export const keyOf = ({ collection, filter }: Scope): string => `${collection} ${filter ?? ''}`;
const roundOf = (key: string, { round }: ScopeState): string => `${key}#${round}`;
/** The scope of a round. */
const keyIn = (holder: string): string => holder.slice(0, holder.lastIndexOf('#'));
const FRESH: ScopeState = { round: 1 };

export class Puller {
  #counts: Pulled = { received: 0, gone: 0 };

  constructor(private readonly ground: PullGround) {}

  /** @param compare whether scopes are compared now, whenever they last were */
  async run(compare: boolean): Promise<Pulled> {
    this.#counts = { received: 0, gone: 0 };
    await this.forgetOthers();
    const refused = await this.#follow();
    await this.#dropLoose();
    await this.#compare(compare, refused);
    await this.#bring();
    return this.#counts;
  }

  #state(key: string): ScopeState {
    return (this.ground.local.facts[`scope ${key}`] as ScopeState | undefined) ?? FRESH;
  }

  /** Every round asks for all scopes, so that one that is being filled does not hold up the others. */
  async #follow(): Promise<Set<string>> {
    const { scopes, onProblem } = this.ground;
    const refused = new Set<string>();
    let ahead: { asks: string; reply: Promise<SyncPulled> } | null = null;
    for (let more = true; more; ) {
      const declared = scopes.map((scope) => ({ scope, key: keyOf(scope) }));
      const asked = [...declared.filter(({ key }) => !refused.has(key)), ...this.#brought()];
      if (asked.length === 0) break;
      const asks = asked.map((one) => this.#ask(one));
      const pulled: SyncPulled = await (ahead?.asks === JSON.stringify(asks) ? ahead.reply : this.#pull(asks));
      // The next page is on its way while this one is kept.
      const next = pulled.more ? expectedAsks(asks, pulled) : null;
      ahead = next && { asks: JSON.stringify(next), reply: this.#pull(next) };
      ahead?.reply.catch(() => undefined);
      ({ more } = pulled);
      const answered = new Map(pulled.scopes.map((changes) => [changes.scope, changes]));
      for (const [index, one] of asked.entries()) {
        const changes = answered.get(index) ?? { scope: index };
        if (changes.problem) {
          refused.add(one.key);
          if (!('names' in one)) onProblem(one.scope, changes.problem);
        } else if (await this.#take(one.scope, one.key, changes, pulled.at)) more = true;
      }
    }
    return refused;
  }

  #pull(scopes: SyncScope[]): Promise<SyncPulled> {
    const { local, pull } = this.ground;
    return pull({ scopes, pending: local.pending.size, conflicts: local.conflicts.size });
  }

  #ask({ scope: { collection, filter }, key, names }: Asked): SyncScope {
    const { at, fill } = this.#state(key);
    const shape = this.ground.local.shape(collection)?.name;
    return {
      collection,
      ...(filter ? { filter } : {}),
      ...(at === undefined ? {} : { at }),
      ...(fill === undefined ? {} : { fill }),
      ...(names ? { names } : {}),
      ...(shape ? { shape } : {}),
    };
  }

  /** @returns whether there is more to ask for at once */
  async #take(scope: Scope, key: string, changes: SyncScopeChanges, reached: number): Promise<boolean> {
    const { now } = this.ground;
    const before = this.#state(key);
    const facts: Record<string, Json> = changes.shape ? { [`shape ${scope.collection}`]: changes.shape as unknown as Json } : {};
    const shape = changes.shape?.name ?? this.ground.local.shape(scope.collection)?.name;
    // Records of the time before a field was added or renamed lack it, and no change of theirs tells.
    const isOfOldShape = before.at !== undefined && before.shape !== undefined && before.shape !== shape;
    if (changes.anew || isOfOldShape || (before.at !== undefined && before.fill === undefined && this.#isStale(key, before))) {
      await this.ground.local.commit({ facts: { ...facts, [`scope ${key}`]: { round: before.round + 1 } } });
      return true;
    }
    if (changes.changed) await this.#fetch(scope.collection, key, changes.changed);
    const isFilling = before.at === undefined || before.fill !== undefined;
    const isFilled = isFilling && changes.at !== undefined && changes.fill === undefined;
    const at = isFilling ? changes.at : Math.max(before.at ?? 0, reached);
    const state: ScopeState = {
      round: before.round,
      ...(shape ? { shape } : {}),
      ...(at === undefined ? {} : { at }),
      ...(changes.fill === undefined ? {} : { fill: changes.fill }),
      ...(isFilled
        ? { filledAt: now(), comparedAt: now() }
        : { ...(before.filledAt ? { filledAt: before.filledAt } : {}), ...(before.comparedAt ? { comparedAt: before.comparedAt } : {}) }),
    };
    const batch = this.#batch(scope.collection, roundOf(key, state), (changes.records ?? []) as LocalRecord[], changes.gone ?? []);
    // The end of a fill: what was there before and did not come again is no longer in the scope.
    if (isFilled) joinInto(batch, this.#sweep(scope.collection, key, state, batch));
    const outside: Record<string, Json> = changes.outside ? { [`outside ${key}`]: true } : {};
    if (JSON.stringify(state) !== JSON.stringify(before) || changesRows(batch) || changes.shape)
      await this.ground.local.commit({ ...batch, facts: { ...facts, ...outside, [`scope ${key}`]: state as unknown as Json } });
    return changes.at === undefined && isFilling;
  }

  #isStale(key: string, { filledAt = 0 }: ScopeState): boolean {
    return this.ground.local.facts[`outside ${key}`] === true && this.ground.now() - filledAt > OUTSIDE_AGAIN_MS;
  }

  /** Rows as they become, and those that no scope holds any more. */
  #batch(collection: string, holder: string, records: readonly LocalRecord[], gone: readonly string[]): Batch {
    const own = this.ground.local.collection(collection);
    const batch: Batch = { rows: [], gone: [] };
    for (const record of records) {
      const before = own.rows.get(record.id);
      // An answer may be older than what a push has brought.
      const newest = before && before.record.version > record.version ? before.record : record;
      batch.rows?.push({ collection, id: record.id, record: newest, scopes: [...new Set([...(before?.scopes ?? []), holder])] });
      this.#counts.received++;
    }
    for (const id of gone) {
      const before = own.rows.get(id);
      if (before) this.#release(batch, before, (scope) => keyIn(scope) === keyIn(holder));
    }
    return batch;
  }

  /** Takes a row out of the scopes that match. */
  #release(batch: Batch, row: Row, isLeft: (scope: string) => boolean): void {
    const scopes = row.scopes.filter((scope) => !isLeft(scope));
    if (scopes.length === row.scopes.length) return;
    if (scopes.length > 0) batch.rows?.push({ ...row, scopes });
    else {
      batch.gone?.push({ collection: row.collection, id: row.id });
      this.#counts.gone++;
    }
  }

  #sweep(collection: string, key: string, state: ScopeState, { rows = [] }: Batch): Batch {
    const holder = roundOf(key, state);
    const fresh = new Map(rows.map((row) => [row.id, row]));
    const swept: Batch = { rows: [], gone: [] };
    const isOld = (scope: string) => scope.startsWith(`${key}#`) && scope !== holder;
    for (const row of this.ground.local.collection(collection).rows.values()) this.#release(swept, fresh.get(row.id) ?? row, isOld);
    return swept;
  }

  /** Reads some records as they are now. */
  async #fetch(collection: string, key: string, held: readonly [string, number][]): Promise<void> {
    const { local } = this.ground;
    const own = local.collection(collection);
    const wanted = held
      .filter(([id, version]) => (own.rows.get(id)?.record.version ?? (key.startsWith(FOR_BRINGING) ? version : -1)) !== version)
      .map(([id]) => id);
    await this.#fetchIds(collection, roundOf(key, this.#state(key)), wanted);
  }

  async #fetchIds(collection: string, holder: string, ids: readonly string[]): Promise<void> {
    const { local } = this.ground;
    for (let from = 0; from < ids.length; from += IDS_AT_ONCE) {
      const shape = local.shape(collection)?.name;
      const asked = { collection, ids: ids.slice(from, from + IDS_AT_ONCE), ...(shape ? { shape } : {}) };
      const [changes] = (await this.#pull([asked])).scopes;
      if (!changes || changes.problem) return;
      const facts = changes.shape ? { facts: { [`shape ${collection}`]: changes.shape as unknown as Json } } : {};
      await local.commit({ ...this.#batch(collection, holder, (changes.records ?? []) as LocalRecord[], changes.gone ?? []), ...facts });
    }
  }

  /** Roles, the time and other records can change what somebody may read, and no change of the feed tells: copies are compared. */
  async #compare(now: boolean, refused: ReadonlySet<string>): Promise<void> {
    const { local, scopes } = this.ground;
    for (const scope of scopes) {
      const key = keyOf(scope);
      const state = this.#state(key);
      const isDue = now || this.ground.now() - (state.comparedAt ?? 0) > COMPARE_EVERY_MS;
      if (!isDue || refused.has(key) || state.at === undefined || state.fill !== undefined || local.facts[`outside ${key}`] === true)
        continue;
      const holder = roundOf(key, state);
      const held = this.#held(scope.collection, holder);
      const ranges = digestRanges(held);
      const [changes] = (await this.#pull([{ ...this.#ask({ scope, key }), ranges }])).scopes;
      for (const { range, held: theirs } of changes?.differing ?? []) {
        const [after, until] = [ranges[range - 1]?.until ?? null, ranges[range]?.until ?? null];
        const inRange = held.filter(({ id }) => (after === null || id > after) && (until === null || id <= until));
        const there = new Set(theirs.map(([id]) => id));
        await local.commit(
          this.#batch(
            scope.collection,
            holder,
            [],
            inRange.filter(({ id }) => !there.has(id)).map(({ id }) => id),
          ),
        );
        await this.#fetchIds(scope.collection, holder, missing(local, scope.collection, theirs, holder));
      }
      await local.commit({ facts: { [`scope ${key}`]: { ...this.#state(key), comparedAt: this.ground.now() } as unknown as Json } });
    }
  }

  #held(collection: string, holder: string): Held[] {
    const rows = [...this.ground.local.collection(collection).rows.values()];
    return rows
      .filter(({ scopes }) => scopes.includes(holder))
      .map(({ id, record }) => ({ id, version: record.version }))
      .sort(byId);
  }

  /** Collections that references lead to, followed by name: what is brought along is up to date as well. */
  #brought(): Asked[] {
    const targets = new Set<string>();
    for (const { collection, bring = [] } of this.ground.scopes) {
      const shape = this.ground.local.shape(collection);
      for (const field of bring) if (shape?.references[field]) targets.add(shape.references[field] as string);
    }
    return [...targets].flatMap((collection) => {
      const key = `${FOR_BRINGING}${collection}`;
      return this.#state(key).at === undefined ? [] : [{ scope: { collection }, key, names: true as const }];
    });
  }

  /** Fetches what references lead to, and lets go of what none leads to any more. */
  async #bring(): Promise<void> {
    const { local, scopes } = this.ground;
    const wanted = new Map<string, Set<string>>();
    for (const scope of scopes) {
      const { collection, bring = [] } = scope;
      const references = local.shape(collection)?.references ?? {};
      const key = keyOf(scope);
      for (const { record, scopes: of } of local.collection(collection).rows.values()) {
        if (!of.some((holder) => keyIn(holder) === key)) continue;
        for (const field of bring) {
          const [target, id] = [references[field], record[field]];
          if (target && typeof id === 'string') wanted.set(target, (wanted.get(target) ?? new Set()).add(id));
        }
      }
    }
    for (const [collection, ids] of wanted) await this.#bringSome(collection, ids);
  }

  async #bringSome(collection: string, ids: ReadonlySet<string>): Promise<void> {
    const { local, scopes } = this.ground;
    const key = `${FOR_BRINGING}${collection}`;
    const state = this.#state(key);
    const holder = roundOf(key, state);
    if (state.at === undefined) {
      const at = Math.min(...scopes.flatMap((scope) => this.#state(keyOf(scope)).at ?? []));
      if (Number.isFinite(at)) await local.commit({ facts: { [`scope ${key}`]: { ...state, at } } });
    }
    const own = local.collection(collection);
    await this.#fetchIds(
      collection,
      holder,
      [...ids].filter((id) => !own.rows.get(id)?.scopes.includes(holder)),
    );
    const left: Batch = { rows: [], gone: [] };
    for (const row of own.rows.values()) if (!ids.has(row.id)) this.#release(left, row, (scope) => scope === holder);
    if (changesRows(left)) await local.commit(left);
  }

  /** What the device wrote itself and no scope took in: it does not fit them. */
  async #dropLoose(): Promise<void> {
    const { local } = this.ground;
    const changed = new Set([...local.pending.values()].map(({ collection, record }) => `${collection}/${record}`));
    const gone = [...local.collections.values()].flatMap((own) =>
      [...own.rows.values()].filter(({ scopes, collection, id }) => scopes.length === 0 && !changed.has(`${collection}/${id}`)),
    );
    if (gone.length > 0) await local.commit({ gone: gone.map(({ collection, id }) => ({ collection, id })) });
  }

  /** Lets go of records of other scopes than these: the app does not declare them any more, or there is no room for them. */
  async forgetOthers(): Promise<void> {
    const { local, scopes } = this.ground;
    const declared = new Set(scopes.map(keyOf));
    const isLeft = (scope: string) => !scope.startsWith(FOR_BRINGING) && !declared.has(keyIn(scope));
    const batch: Batch = { rows: [], gone: [] };
    for (const own of local.collections.values()) for (const row of own.rows.values()) this.#release(batch, row, isLeft);
    const states = Object.keys(local.facts).filter(
      (name) => name.startsWith('scope ') && !name.startsWith(`scope ${FOR_BRINGING}`) && !declared.has(name.slice('scope '.length)),
    );
    const facts = Object.fromEntries(states.filter((name) => local.facts[name] !== null).map((name) => [name, null]));
    if (changesRows(batch) || Object.keys(facts).length > 0) await local.commit({ ...batch, facts });
  }
}

type Asked = { scope: Scope; key: string; names?: true };

/** What the next round will ask, if nothing unusual is in this answer; null where something is. */
function expectedAsks(asks: readonly SyncScope[], { at: reached, scopes }: SyncPulled): SyncScope[] | null {
  const answered = new Map(scopes.map((changes) => [changes.scope, changes]));
  const next: SyncScope[] = [];
  for (const [index, { fill: _fill, at, ...ask }] of asks.entries()) {
    const changes = answered.get(index);
    if (changes?.anew || changes?.problem || changes?.outside || changes?.changed || (changes?.shape && at !== undefined)) return null;
    const isFilling = at === undefined || _fill !== undefined;
    const now = isFilling ? changes?.at : Math.max(at, reached);
    const shape = changes?.shape?.name ?? ask.shape;
    next.push({
      collection: ask.collection,
      ...(ask.filter ? { filter: ask.filter } : {}),
      ...(now === undefined ? {} : { at: now }),
      ...(changes?.fill === undefined ? {} : { fill: changes.fill }),
      ...(ask.names ? { names: ask.names } : {}),
      ...(shape ? { shape } : {}),
    });
  }
  return next;
}

const missing = (local: Local, collection: string, theirs: readonly (readonly [string, number])[], holder: string): string[] =>
  theirs.flatMap(([id, version]) => {
    const row = local.collection(collection).rows.get(id);
    return row?.record.version === version && row.scopes.includes(holder) ? [] : [id];
  });

const changesRows = ({ rows = [], gone = [] }: Batch): boolean => rows.length + gone.length > 0;

function joinInto(batch: Batch, more: Batch): void {
  const replaced = new Set([...(more.rows ?? []), ...(more.gone ?? [])].map(({ id }) => id));
  batch.rows = [...(batch.rows ?? []).filter(({ id }) => !replaced.has(id)), ...(more.rows ?? [])];
  batch.gone = [...(batch.gone ?? []), ...(more.gone ?? [])];
}
