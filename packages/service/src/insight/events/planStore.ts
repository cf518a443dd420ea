/** The event plan, and what came: names and properties with their types. Raw SQL: counts that concurrent calls add to. */
import { type EventKind, type PlannedEventDocument, Problem } from '@orchard/contract';
import { grouped } from '@orchard/core';
import { type PlannedEvent, type PropertyType, type PropertyValue, typeOfValue } from '@orchard/core/insight';
import { eq } from 'drizzle-orm';
import { LRUCache } from 'lru-cache';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { plannedEventTable, seenPropertyTable } from './tables.js';

type Planned = Omit<PlannedEventDocument, 'name'>;
type SeenRow = typeof seenPropertyTable.$inferSelect;

const REMEMBER_MS = 3_000;
/** A property that came is noted again after this time. */
const NOTE_AGAIN_MS = 60_000;
/** New names of events in a minute, and in all. */
const [MOST_NEW, MOST_NAMES] = [100, 2_000];
const MINUTE_MS = 60_000;

export class Plan {
  readonly #plans = new LRUCache<string, Map<string, Planned>>({ max: 500, ttl: REMEMBER_MS });
  readonly #names = new LRUCache<string, Set<string>>({ max: 500 });
  readonly #noted = new LRUCache<string, number>({ max: 50_000 });
  readonly #newNames = new LRUCache<string, { minute: number; count: number }>({ max: 500 });

  async read(db: EnvironmentDatabase): Promise<Map<string, Planned>> {
    const known = this.#plans.get(db.name);
    if (known) return known;
    const rows = await db.orm.select().from(db.table(plannedEventTable)).orderBy(plannedEventTable.name);
    const plan = new Map(
      rows.map(({ name, properties, ...one }) => [name, { ...one, properties: storedJson(properties) as Planned['properties'] }]),
    );
    this.#plans.set(db.name, plan);
    return plan;
  }

  async write(db: EnvironmentDatabase, name: string, planned: Planned): Promise<void> {
    await db.orm
      .insert(db.table(plannedEventTable))
      .values({ name, ...planned })
      .onDuplicateKeyUpdate({ set: planned });
    this.#plans.delete(db.name);
  }

  /** @throws {Problem} not-found */
  async remove(db: EnvironmentDatabase, name: string): Promise<void> {
    const planned = db.table(plannedEventTable);
    const [{ affectedRows }] = await db.orm.delete(planned).where(eq(planned.name, name));
    if (affectedRows === 0) throw new Problem('not-found', `\`${name}\` is not in the event plan. \`orchard event list\` lists what is.`);
    this.#plans.delete(db.name);
  }

  /** Names that may come: those that are known, and so many new ones a minute. @returns those that are too many */
  async tooMany(db: EnvironmentDatabase, names: ReadonlySet<string>, now: number): Promise<ReadonlySet<string>> {
    const known = await this.#known(db);
    const plan = await this.read(db);
    const fresh = [...names].filter((name) => !known.has(name) && !plan.has(name));
    if (fresh.length === 0) return new Set();
    const minute = Math.floor(now / MINUTE_MS);
    const before = this.#newNames.get(db.name);
    const used = before?.minute === minute ? before.count : 0;
    const room = Math.max(0, Math.min(MOST_NEW - used, MOST_NAMES - known.size));
    this.#newNames.set(db.name, { minute, count: used + Math.min(room, fresh.length) });
    return new Set(fresh.slice(room));
  }

  async #known(db: EnvironmentDatabase): Promise<Set<string>> {
    let names = this.#names.get(db.name);
    if (!names) {
      const rows = await db.rows<{ event: string }>(`SELECT event FROM ${db.of(seenPropertyTable)} WHERE property = ''`);
      this.#names.set(db.name, (names = new Set(rows.map(({ event }) => event))));
    }
    return names;
  }

  /** Notes what came, each name and property about once a minute; misfits at once. */
  async note(
    db: EnvironmentDatabase,
    events: readonly { name: string; properties: Record<string, PropertyValue>; misfits: boolean }[],
    now: number,
  ): Promise<void> {
    const rows = new Map<string, unknown[]>();
    const add = (event: string, property: string, type: PropertyType | '', misfit: boolean) => {
      const key = `${db.name} ${event} ${property} ${type}`;
      if (!misfit && now - (this.#noted.get(key) ?? 0) < NOTE_AGAIN_MS) return;
      this.#noted.set(key, now);
      const row = rows.get(key) ?? [event, property, type, new Date(now), new Date(now), 0];
      row[5] = (row[5] as number) + (misfit ? 1 : 0);
      rows.set(key, row);
    };
    for (const { name, properties, misfits } of events) {
      add(name, '', '', misfits);
      for (const [property, value] of Object.entries(properties)) add(name, property, typeOfValue(value), false);
    }
    if (rows.size === 0) return;
    await db.run(
      `INSERT INTO ${db.of(seenPropertyTable)} (event, property, type, firstAt, lastAt, misfits) VALUES ?
       ON DUPLICATE KEY UPDATE lastAt = VALUES(lastAt), misfits = misfits + VALUES(misfits)`,
      [inOrder(rows)],
    );
    const known = await this.#known(db);
    for (const { name } of events) known.add(name);
  }

  seen(db: EnvironmentDatabase): Promise<SeenRow[]> {
    return db.orm.select().from(db.table(seenPropertyTable));
  }

  /** The types of own properties, over all events: of one that changed its type, the latest. */
  async types(db: EnvironmentDatabase): Promise<Map<string, PropertyType>> {
    const types = new Map<string, PropertyType>();
    const rows = (await this.seen(db)).filter(({ property }) => property !== '').sort((a, b) => a.lastAt.getTime() - b.lastAt.getTime());
    for (const { property, type } of rows) types.set(property, type as PropertyType);
    return types;
  }

  /** Kinds of events, planned and seen, by name. */
  async kinds(db: EnvironmentDatabase): Promise<EventKind[]> {
    const plan = await this.read(db);
    const seen = grouped(await this.seen(db), ({ event }) => event);
    return [...new Set([...plan.keys(), ...seen.keys()])].sort().map((name) => kindOf(name, plan.get(name), seen.get(name) ?? []));
  }
}

function kindOf(name: string, planned: Planned | undefined, rows: readonly SeenRow[]): EventKind {
  const own = rows.find(({ property }) => property === '');
  const came = rows.filter(({ property }) => property !== '');
  const awaited = Object.entries(planned?.properties ?? {}).filter(
    ([property, { type }]) => !came.some((row) => row.property === property && row.type === type),
  );
  return {
    name,
    description: planned?.description ?? '',
    owner: planned?.owner ?? '',
    planned: planned !== undefined,
    properties: [
      ...came.map(({ property, type, lastAt }) => ({
        name: property,
        type: type as PropertyType,
        description: planned?.properties[property]?.description ?? '',
        planned: planned?.properties[property]?.type === type,
        lastAt: lastAt.toISOString(),
      })),
      ...awaited.map(([property, { type, description = '' }]) => ({ name: property, type, description, planned: true, lastAt: null })),
    ].sort((a, b) => a.name.localeCompare(b.name)),
    firstAt: own?.firstAt.toISOString() ?? null,
    lastAt: own?.lastAt.toISOString() ?? null,
    misfits: own?.misfits ?? 0,
  };
}

/** Rows by key in order: concurrent calls that lock them in the same order never block each other. */
export const inOrder = <Row>(rows: ReadonlyMap<string, Row>): Row[] => [...rows].sort(([a], [b]) => (a < b ? -1 : 1)).map(([, row]) => row);

/** For checking: the plan of one event. */
export const plannedIn =
  (plan: ReadonlyMap<string, Planned>) =>
  (name: string): PlannedEvent | null =>
    plan.get(name) ?? null;
