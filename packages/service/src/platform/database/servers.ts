/** The database servers of an installation: the one with the system database, and further ones that hold environments. */
import type { Leases } from './leases.js';
import type { Database } from './connection.js';
import { EnvironmentDatabase } from './environmentDatabase.js';

/** The "environment" of calls that name none. */
export const INSTALLATION = 'installation';

export class Servers {
  readonly #servers: ReadonlyMap<string, Database>;
  readonly #databases = new Map<string, EnvironmentDatabase>();
  #fullAt: number | null = null;
  #system: EnvironmentDatabase | null = null;

  /** @param main has the system database, and every environment that names no other server */
  constructor(
    readonly main: Database,
    readonly leases: Leases,
    others: ReadonlyMap<string, Database> = new Map(),
  ) {
    this.#servers = others;
  }

  /** Names of the servers besides the main one. */
  get names(): string[] {
    return [...this.#servers.keys()];
  }

  get all(): Database[] {
    return [this.main, ...this.#servers.values()];
  }

  /**
   * The database of an environment; databases of one installation begin with the name of its system database.
   * @param server null for the main one
   */
  databaseOf(environmentId: string, server: string | null): EnvironmentDatabase {
    const on = this.named(server);
    const known = this.#databases.get(environmentId);
    if (known) {
      if (known.server !== on) known.moveTo(on);
      return known;
    }
    const database = new EnvironmentDatabase(on, `${this.main.name}_${environmentId}`, this.leases);
    this.#databases.set(environmentId, database);
    return database;
  }

  /** The system database, for tables that environments have too. */
  get system(): EnvironmentDatabase {
    this.#system ??= new EnvironmentDatabase(this.main, this.main.name, this.leases);
    return this.#system;
  }

  /** The same tables for calls without an environment. */
  get installation(): EnvironmentDatabase {
    return this.databaseOf(INSTALLATION, null);
  }

  forget(environmentId: string): void {
    this.#databases.delete(environmentId);
  }

  /** @param server null for the main one @throws Error where the settings do not name it */
  named(server: string | null): Database {
    if (server === null) return this.main;
    const found = this.#servers.get(server);
    if (!found) throw new Error(`The database server ${server} is not listed in ORCHARD_DATABASE_SERVERS, but environments are on it.`);
    return found;
  }

  /** When a server last refused something here because its disk is full; null where none did. */
  get fullAt(): number | null {
    return this.#fullAt;
  }

  noteFull(at: number): void {
    this.#fullAt = at;
  }

  async close(): Promise<void> {
    await Promise.all(this.all.map((server) => server.close()));
  }
}
