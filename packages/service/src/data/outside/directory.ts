/** The outside tables of each environment, with their connections, kept open until their rows change. */
import type { ValueKind } from '@orchard/core';
import { LRUCache } from 'lru-cache';
import { unseal } from '../../platform/access/secrets.js';
import type { Environment } from '../../platform/call.js';
import { type OutsideConnection, openOutside } from './connection.js';
import { OutsideTable } from './outsideTable.js';
import type { Parts } from './parts.js';
import { OutsideRows } from './rowsStore.js';
import { OutsideStore, type ServerRow } from './store.js';

/** Another instance's changes may go unnoticed for this long. */
const REMEMBER_MS = 2_000;
type Known = { tables: ReadonlyMap<string, OutsideTable>; me: ReadonlyMap<string, ValueKind>; until: number };

export const contextOf = ({ sealedFor: id }: Environment, server: string): string => `${id}:outside-server:${server}`;

export class OutsideDirectory {
  readonly store = new OutsideStore();
  readonly #known = new LRUCache<string, Known>({ max: 2_000 });
  readonly #connections = new Map<string, { stamp: string; connection: OutsideConnection }>();

  constructor(private readonly parts: Parts) {}

  /** Every outside table of an environment, by its collection. */
  async tables(environment: Environment): Promise<ReadonlyMap<string, OutsideTable>> {
    return (await this.#load(environment)).tables;
  }

  /** The records of an outside table; null for another name. */
  async rows(environment: Environment, name: string): Promise<OutsideRows | null> {
    const { tables, me } = await this.#load(environment);
    const table = tables.get(name);
    return table ? new OutsideRows(this.parts, table, me) : null;
  }

  async #load(environment: Environment): Promise<Known> {
    const known = this.#known.get(environment.id);
    if (known && known.until > this.parts.now()) return known;
    const rows = await this.store.tables(environment);
    const servers = rows.length > 0 ? await this.store.servers(environment) : [];
    const tables = new Map<string, OutsideTable>();
    for (const row of rows) {
      const server = servers.find(({ id }) => id === row.serverId);
      if (!server) continue;
      const fresh = new OutsideTable(environment, row, server, this.connection(environment, server));
      // What was compiled for a table stays with it until it changes.
      const same = known?.tables.get(row.name);
      tables.set(row.name, same?.stamp === fresh.stamp ? same : fresh);
    }
    const me = rows.length > 0 ? await this.parts.ports.userFields(environment) : new Map<string, ValueKind>();
    const loaded = { tables, me, until: this.parts.now() + REMEMBER_MS };
    this.#known.set(environment.id, loaded);
    return loaded;
  }

  /** A server's connection; opened anew when its row has changed. */
  connection(environment: Environment, row: ServerRow): OutsideConnection {
    const stamp = row.updatedAt.toISOString();
    const open = this.#connections.get(row.id);
    if (open?.stamp === stamp) return open.connection;
    open?.connection.close();
    const { host, port, database, user, tls, trust } = row;
    const password = unseal(environment.keys.data, contextOf(environment, row.id), row.sealed).toString();
    const kind = row.kind as 'mariadb' | 'postgresql';
    const connection = openOutside({ kind, host, port, database, user, password, tls: Boolean(tls), trust });
    this.#connections.set(row.id, { stamp, connection });
    return connection;
  }

  /** The rows are read again; what was compiled for a table stays until it changes. */
  forget(environment: Environment): void {
    const known = this.#known.get(environment.id);
    if (known) known.until = 0;
  }

  drop(serverId: string): void {
    this.#connections.get(serverId)?.connection.close();
    this.#connections.delete(serverId);
  }

  close(): void {
    for (const { connection } of this.#connections.values()) connection.close();
    this.#connections.clear();
  }
}
