/**
 * People by number. A device has a nameless person while nobody is signed in; the first user who signs in there afterwards
 * becomes one with them, backwards too. Two users never do. Raw SQL where a statement decides between concurrent calls.
 */
import { ERASED } from '@orchard/core/insight';
import { and, eq, inArray, isNotNull } from 'drizzle-orm';
import type { MySqlTable } from 'drizzle-orm/mysql-core';
import { LRUCache } from 'lru-cache';
import type { Statements } from '../../platform/database/connection.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { devicePersonTable, personDeviceTable, personTable } from './tables.js';

/** Who is who: by number, whom a person became, and when they were first seen. */
export type KnownPeople = {
  /** One more than the highest number. */
  count: number;
  /** By number: who they are now; {@link ERASED} for those who do not count any more. */
  alias: Uint32Array;
  /** By number: when they were first seen; NaN for those who became another, and the erased. */
  firstSeen: Float64Array;
  erased: number;
  /** Changes whenever somebody becomes another, or is erased. */
  aliases: number;
  /** Changes whenever anything in it does. */
  version: number;
};

const AT_ONCE = 5_000;
/** A transaction that took so long is still seen. */
const LATE_MS = 10_000;

export class People {
  readonly #users = new LRUCache<string, { number: number; firstAt: number }>({ max: 50_000 });
  readonly #seenOn = new LRUCache<string, true>({ max: 50_000 });
  readonly #known = new LRUCache<string, Loaded>({ max: 50 });

  /** The person of an event that a device sends. @param at time of the earliest of them */
  async personOf(
    db: EnvironmentDatabase,
    on: Statements,
    deviceId: string,
    userId: string | null,
    at: number,
    now: number,
  ): Promise<number> {
    const person = userId === null ? await this.#nameless(db, on, deviceId, at, now) : await this.#user(db, on, deviceId, userId, at, now);
    await this.#noteDevice(db, on, person, deviceId);
    return person;
  }

  async #nameless(db: EnvironmentDatabase, on: Statements, deviceId: string, at: number, now: number): Promise<number> {
    const [row] = await on.rows<{ person: number; firstAt: Date }>(
      `SELECT d.person, p.firstAt FROM ${db.of(devicePersonTable)} d JOIN ${db.of(personTable)} p ON p.number = d.person WHERE d.deviceId = ?`,
      [deviceId],
    );
    if (row) {
      await this.#seenEarlier(db, on, row.person, row.firstAt.getTime(), at, now);
      return row.person;
    }
    const number = await this.#add(db, on, null, at, now);
    const { affectedRows } = await on.run(`INSERT IGNORE INTO ${db.of(devicePersonTable)} (deviceId, person) VALUES (?, ?)`, [
      deviceId,
      number,
    ]);
    if (affectedRows === 1) return number;
    // Another call of the same device was faster.
    await on.run(`DELETE FROM ${db.of(personTable)} WHERE number = ?`, [number]);
    const [other] = await on.rows<{ person: number }>(`SELECT person FROM ${db.of(devicePersonTable)} WHERE deviceId = ? FOR UPDATE`, [
      deviceId,
    ]);
    return other?.person as number;
  }

  async #user(db: EnvironmentDatabase, on: Statements, deviceId: string, userId: string, at: number, now: number): Promise<number> {
    const { number, firstAt } = await this.#ofUser(db, on, userId, at, now);
    await this.#seenEarlier(db, on, number, firstAt, at, now);
    const [nameless] = await on.rows<{ person: number; firstAt: Date }>(
      `SELECT d.person, p.firstAt FROM ${db.of(devicePersonTable)} d JOIN ${db.of(personTable)} p ON p.number = d.person WHERE d.deviceId = ?`,
      [deviceId],
    );
    if (nameless) await this.#become(db, on, deviceId, nameless, { number, firstAt }, now);
    return number;
  }

  /** Of a user who has sent events; null for others. */
  async numberOf(db: EnvironmentDatabase, userId: string): Promise<number | null> {
    const [row] = await db.runRows<{ number: number }>(`SELECT number FROM ${db.of(personTable)} WHERE userId = ?`, [userId]);
    return row?.number ?? null;
  }

  async #ofUser(
    db: EnvironmentDatabase,
    on: Statements,
    userId: string,
    at: number,
    now: number,
  ): Promise<{ number: number; firstAt: number }> {
    const key = `${db.name} ${userId}`;
    const known = this.#users.get(key);
    if (known) return known;
    const read = () =>
      on.rows<{ number: number; firstAt: Date }>(`SELECT number, firstAt FROM ${db.of(personTable)} WHERE userId = ?`, [userId]);
    let [row] = await read();
    if (!row) {
      await on.run(`INSERT IGNORE INTO ${db.of(personTable)} (userId, firstAt, changedAt) VALUES (?, ?, ?)`, [
        userId,
        new Date(at),
        new Date(now),
      ]);
      [row] = await on.rows<{ number: number; firstAt: Date }>(
        `SELECT number, firstAt FROM ${db.of(personTable)} WHERE userId = ? FOR UPDATE`,
        [userId],
      );
    }
    if (!row) throw new Error('a person that was just added is not there');
    const found = { number: row.number, firstAt: row.firstAt.getTime() };
    this.#users.set(key, found);
    return found;
  }

  /** Makes a nameless person and a user one. Whoever removes the device's row does it. */
  async #become(
    db: EnvironmentDatabase,
    on: Statements,
    deviceId: string,
    nameless: { person: number; firstAt: Date },
    user: { number: number; firstAt: number },
    now: number,
  ): Promise<void> {
    const { affectedRows } = await on.run(`DELETE FROM ${db.of(devicePersonTable)} WHERE deviceId = ? AND person = ?`, [
      deviceId,
      nameless.person,
    ]);
    if (affectedRows !== 1) return;
    await on.run(`UPDATE ${db.of(personTable)} SET became = ?, changedAt = ? WHERE number = ?`, [
      user.number,
      new Date(now),
      nameless.person,
    ]);
    await this.#seenEarlier(db, on, user.number, user.firstAt, nameless.firstAt.getTime(), now);
    user.firstAt = Math.min(user.firstAt, nameless.firstAt.getTime());
  }

  async #add(db: EnvironmentDatabase, on: Statements, userId: string | null, at: number, now: number): Promise<number> {
    const { insertId } = await on.run(`INSERT INTO ${db.of(personTable)} (userId, firstAt, changedAt) VALUES (?, ?, ?)`, [
      userId,
      new Date(at),
      new Date(now),
    ]);
    return insertId;
  }

  async #seenEarlier(db: EnvironmentDatabase, on: Statements, person: number, firstAt: number, at: number, now: number): Promise<void> {
    if (at >= firstAt) return;
    await on.run(`UPDATE ${db.of(personTable)} SET firstAt = LEAST(firstAt, ?), changedAt = ? WHERE number = ?`, [
      new Date(at),
      new Date(now),
      person,
    ]);
  }

  async #noteDevice(db: EnvironmentDatabase, on: Statements, person: number, deviceId: string): Promise<void> {
    const key = `${db.name} ${person} ${deviceId}`;
    if (this.#seenOn.has(key)) return;
    await on.run(`INSERT IGNORE INTO ${db.of(personDeviceTable)} (person, deviceId) VALUES (?, ?)`, [person, deviceId]);
    this.#seenOn.set(key, true);
  }

  /** A transaction that noted people may not have been committed. */
  forget(): void {
    this.#users.clear();
    this.#seenOn.clear();
  }

  /** In the transaction that removes a user: from now on their events do not count. @returns all their numbers */
  async erase(db: EnvironmentDatabase, on: Statements, userId: string, now: number): Promise<number[]> {
    this.#users.delete(`${db.name} ${userId}`);
    const [row] = await on.rows<{ number: number }>(`SELECT number FROM ${db.of(personTable)} WHERE userId = ? FOR UPDATE`, [userId]);
    if (!row) return [];
    const others = await on.rows<{ number: number }>(`SELECT number FROM ${db.of(personTable)} WHERE became = ?`, [row.number]);
    const numbers = [row.number, ...others.map(({ number }) => number)];
    await on.run(`UPDATE ${db.of(personTable)} SET userId = NULL, erasedAt = ?, changedAt = ? WHERE number IN (?)`, [
      new Date(now),
      new Date(now),
      numbers,
    ]);
    await on.run(`DELETE FROM ${db.of(personDeviceTable)} WHERE person IN (?)`, [numbers]);
    return numbers;
  }

  /** Those whose packed events are still to be removed, with the earliest time of them. */
  async toBeErased(db: EnvironmentDatabase): Promise<{ number: number; firstAt: Date }[]> {
    const people = db.table(personTable);
    return db.orm
      .select({ number: people.number, firstAt: people.firstAt })
      .from(people)
      .where(and(isNotNull(people.erasedAt), eq(people.isGone, false)))
      .limit(1_000);
  }

  async markGone(db: EnvironmentDatabase, numbers: readonly number[]): Promise<void> {
    const people = db.table(personTable);
    await db.orm
      .update(people)
      .set({ isGone: true })
      .where(inArray(people.number, [...numbers]));
  }

  /** Everybody, read once and then kept up with what changed. */
  async known(db: EnvironmentDatabase): Promise<KnownPeople> {
    const loaded = this.#known.get(db.name) ?? new Loaded();
    this.#known.set(db.name, loaded);
    const [{ now } = { now: new Date() }] = await db.rows<{ now: Date }>('SELECT UTC_TIMESTAMP(3) AS now');
    const read = (where: string, values: unknown[]) => db.runRows<Row>(`SELECT ${KNOWN} FROM ${db.of(personTable)} WHERE ${where}`, values);
    if (loaded.readTo > 0) loaded.take(await read('changedAt >= ?', [new Date(loaded.readTo)]));
    // Everybody, a page at a time: all rows at once would take memory, and hold up the event loop.
    else
      for (let [last, rows]: [number, Row[] | null] = [0, null]; rows === null || rows.length === PAGE; ) {
        rows = await read('number > ? ORDER BY number LIMIT ?', [last, PAGE]);
        loaded.take(rows);
        last = rows.at(-1)?.number ?? last;
      }
    loaded.readTo = Math.max(loaded.readTo, now.getTime() - LATE_MS);
    return loaded.people();
  }

  /** The people of deliveries: of the user, or else of the device; null for those who never sent an event. */
  async ofTargets(db: EnvironmentDatabase, targets: readonly { target: string; userId: string | null }[]): Promise<(number | null)[]> {
    const users = await this.#numbers(
      db,
      'SELECT userId AS name, number FROM',
      personTable,
      'userId',
      targets.flatMap(({ userId }) => userId ?? []),
    );
    const devices = await this.#numbers(
      db,
      'SELECT deviceId AS name, MAX(person) AS number FROM',
      personDeviceTable,
      'deviceId',
      targets.flatMap(({ target, userId }) => (userId === null ? target : [])),
      'GROUP BY deviceId',
    );
    const { alias } = await this.known(db);
    return targets.map(({ target, userId }) => {
      const number = userId === null ? devices.get(target) : users.get(userId);
      const now = number === undefined ? undefined : alias[number];
      return now === undefined || now === ERASED ? null : now;
    });
  }

  async #numbers(
    db: EnvironmentDatabase,
    select: string,
    table: MySqlTable,
    column: string,
    names: readonly string[],
    tail = '',
  ): Promise<Map<string, number>> {
    const found = new Map<string, number>();
    const wanted = [...new Set(names)];
    for (let from = 0; from < wanted.length; from += AT_ONCE)
      for (const { name, number } of await db.runRows<{ name: string; number: number }>(
        `${select} ${db.of(table)} WHERE ${column} IN (?) ${tail}`,
        [wanted.slice(from, from + AT_ONCE)],
      ))
        found.set(name, Number(number));
    return found;
  }

  /** Who stands behind numbers. */
  async show(
    db: EnvironmentDatabase,
    numbers: readonly number[],
  ): Promise<{ person: number; userId: string | null; deviceIds: string[]; firstAt: Date }[]> {
    if (numbers.length === 0) return [];
    const people = db.table(personTable);
    const rows = await db.orm
      .select()
      .from(people)
      .where(inArray(people.number, [...numbers]));
    const devices = await db.runRows<{ person: number; deviceId: string }>(
      `SELECT COALESCE(p.became, p.number) AS person, d.deviceId FROM ${db.of(personDeviceTable)} d
       JOIN ${db.of(personTable)} p ON p.number = d.person WHERE p.number IN (?) OR p.became IN (?)`,
      [numbers, numbers],
    );
    return rows.map(({ number, userId, firstAt }) => ({
      person: number,
      userId,
      deviceIds: [...new Set(devices.flatMap(({ person, deviceId }) => (person === number ? [deviceId] : [])))],
      firstAt,
    }));
  }
}

/** What questions know of a person. Raw SQL, and times as numbers: there can be millions, and a row through the builder costs 5 µs. */
const KNOWN = `number, became, TIMESTAMPDIFF(MICROSECOND, '1970-01-01', firstAt) DIV 1000 AS firstMs, erasedAt IS NOT NULL AS isErased`;
type Row = { number: number; became: number | null; firstMs: number; isErased: number };
const PAGE = 20_000;

/** Who is who, as far as it was read. */
class Loaded {
  readTo = 0;
  #alias = new Uint32Array(1024).map((_, i) => i);
  #firstSeen = new Float64Array(1024).fill(Number.NaN);
  #count = 1;
  #version = 0;
  #aliases = 0;

  take(rows: readonly Row[]): void {
    for (const row of rows) this.#set(row);
  }

  #set({ number, became, firstMs, isErased }: Row): void {
    if (number >= this.#alias.length) this.#grow(number);
    const alias = isErased ? ERASED : (became ?? number);
    const firstSeen = isErased || became !== null ? Number.NaN : Number(firstMs);
    const isKnown = number < this.#count && alias === this.#alias[number] && Object.is(firstSeen, this.#firstSeen[number]);
    this.#count = Math.max(this.#count, number + 1);
    if (isKnown) return;
    if (alias !== this.#alias[number]) this.#aliases++;
    this.#alias[number] = alias;
    this.#firstSeen[number] = firstSeen;
    this.#version++;
  }

  #grow(number: number): void {
    const length = Math.max(number + 1, this.#alias.length * 2);
    const alias = Uint32Array.from({ length }, (_, i) => this.#alias[i] ?? i);
    const firstSeen = new Float64Array(length).fill(Number.NaN);
    firstSeen.set(this.#firstSeen);
    [this.#alias, this.#firstSeen] = [alias, firstSeen];
  }

  people(): KnownPeople {
    const alias = this.#alias.subarray(0, this.#count);
    let erased = 0;
    for (const one of alias) if (one === ERASED) erased++;
    return {
      count: this.#count,
      alias,
      firstSeen: this.#firstSeen.subarray(0, this.#count),
      erased,
      aliases: this.#aliases,
      version: this.#version,
    };
  }
}
