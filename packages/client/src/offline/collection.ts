/** One collection of the local copy: what the service has, and over it what the device has changed. */
import type { Json } from '@orchard/core';
import type { LocalRecord, Row } from './types.js';

export class LocalCollection {
  readonly rows = new Map<string, Row>();
  /** Records that are not as the service has them; null for deleted ones. */
  readonly #changed = new Map<string, LocalRecord | null>();
  readonly #indexes = new Map<string, Map<Json, Set<string>>>();

  get size(): number {
    return this.rows.size + this.#changed.size;
  }

  read(id: string): LocalRecord | null {
    const changed = this.#changed.get(id);
    return changed === undefined ? (this.rows.get(id)?.record ?? null) : changed;
  }

  all(): LocalRecord[] {
    const all: LocalRecord[] = [];
    for (const [id, { record }] of this.rows) if (this.#changed.size === 0 || !this.#changed.has(id)) all.push(record);
    for (const record of this.#changed.values()) if (record) all.push(record);
    return all;
  }

  index(field: string): void {
    if (this.#indexes.has(field)) return;
    this.#indexes.set(field, new Map());
    for (const record of this.all()) this.#note(field, record);
  }

  having(field: string, values: readonly Json[]): LocalRecord[] | null {
    const index = this.#indexes.get(field);
    if (!index) return null;
    return values.flatMap((value) => [...(index.get(value) ?? [])].map((id) => this.read(id) as LocalRecord));
  }

  #note(field: string, record: LocalRecord): void {
    const index = this.#indexes.get(field) as Map<Json, Set<string>>;
    const value = record[field] ?? null;
    const ids = index.get(value) ?? new Set();
    index.set(value, ids.add(record.id));
  }

  /** Keeps indexes right around a change of one record. */
  #around(id: string, change: () => void): void {
    if (this.#indexes.size === 0) return change();
    const before = this.read(id);
    change();
    const after = this.read(id);
    for (const [field, index] of this.#indexes) {
      if (before) index.get(before[field] ?? null)?.delete(id);
      if (after) this.#note(field, after);
    }
  }

  put(row: Row): void {
    this.#around(row.id, () => this.rows.set(row.id, row));
  }

  drop(id: string): void {
    this.#around(id, () => this.rows.delete(id));
  }

  /** What pending changes make of a record; undefined where there are none. */
  overlay(id: string, record: LocalRecord | null | undefined): void {
    this.#around(id, () => (record === undefined ? this.#changed.delete(id) : this.#changed.set(id, record)));
  }

  clear(): void {
    this.rows.clear();
    this.#changed.clear();
    for (const index of this.#indexes.values()) index.clear();
  }
}
