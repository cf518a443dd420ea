/** Saved views: a collection's filter, sort and columns under a name, for the whole team. */
import { Problem, type View } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { viewTable } from './tables.js';

type Row = { id: string; name: string; query: string; createdBy: string; createdAt: Date };

export class Views {
  constructor(private readonly parts: Parts) {}

  async list(environment: Environment, collection: string): Promise<View[]> {
    await this.parts.catalogue.get(environment, collection);
    const rows = await environment.db.rows<Row>(
      `SELECT id, name, query, createdBy, createdAt FROM ${environment.db.of(viewTable)} WHERE collection = ? ORDER BY name`,
      [collection],
    );
    return rows.map((row) => ({ ...row, createdBy: environment.actors.show(row.createdBy), createdAt: row.createdAt.toISOString() }));
  }

  async save(environment: Environment, collection: string, { name, query }: { name: string; query: string }, by: string): Promise<View> {
    await this.parts.catalogue.get(environment, collection);
    const row: Row = { id: this.parts.newId(), name, query, createdBy: by, createdAt: new Date(this.parts.now()) };
    await environment.db.change(
      `INSERT INTO ${environment.db.of(viewTable)} (id, collection, name, query, createdBy, createdAt) VALUES (?, ?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE query = VALUES(query)`,
      [row.id, collection, name, query, by, row.createdAt],
    );
    return (await this.list(environment, collection)).find((view) => view.name === name) as View;
  }

  async remove(environment: Environment, id: string): Promise<void> {
    const { affectedRows } = await environment.db.change(`DELETE FROM ${environment.db.of(viewTable)} WHERE id = ?`, [id]);
    if (affectedRows === 0) throw new Problem('not-found', `There is no saved view ${id}.`);
  }
}

/** Names of saved views that may use a field. */
export async function viewsNaming({ db }: Environment, collection: string, field: string): Promise<string[]> {
  const rows = await db.rows<{ name: string }>(`SELECT name FROM ${db.of(viewTable)} WHERE collection = ? AND query LIKE ?`, [
    collection,
    `%${field}%`,
  ]);
  return rows.map(({ name }) => name);
}
