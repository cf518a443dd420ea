/** Apps, environments, clients and keys, as rows. */
import { type App, type Client, type Environment as EnvironmentDocument, type Key, Problem, type Role } from '@orchard/contract';
import { formatKey } from '@orchard/core';
import { and, eq, inArray } from 'drizzle-orm';
import { hashKey, seal, unseal } from '../../platform/access/secrets.js';
import { isDuplicate } from '../../platform/database/errors.js';
import { heldRole } from '../../platform/access/memberDirectory.js';
import { newEnvironmentId, newEnvironmentKeys, sealEnvironmentKeys } from '../../platform/access/environmentKeys.js';
import { TRIGGER_FORMAT } from '../../platform/live/tables.js';
import { createEnvironmentDatabase } from '../../platform/database/freshEnvironment.js';
import { apps, clients, environments, keys } from '../../platform/access/systemTables.js';
import type { Environment, SignedInMember } from '../../platform/call.js';
import type { Parts } from './parts.js';

export type ClientRow = typeof clients.$inferSelect;
type KeyRow = typeof keys.$inferSelect;
const list = <T>(value: T[] | string): T[] => (typeof value === 'string' ? JSON.parse(value) : value);

type NewEnvironment = { name: string; mode: Environment['mode']; server?: string | null | undefined };

export class AppStore {
  constructor(private readonly parts: Parts) {}

  get #orm() {
    return this.parts.database.orm;
  }

  async list(member: SignedInMember): Promise<App[]> {
    const [appRows, environmentRows, roles] = await Promise.all([
      this.#orm.select().from(apps).orderBy(apps.name),
      this.#orm.select().from(environments),
      this.parts.members.givenRoles(member),
    ]);
    const present = appRows.map((app) => {
      const own = environmentRows
        .filter((row) => row.app === app.name && (member.owner || roles.has(row.id)))
        .sort((a, b) => a.createdAt.getTime() - b.createdAt.getTime());
      return {
        name: app.name,
        title: app.title,
        createdAt: app.createdAt.toISOString(),
        secondFactor: app.secondFactor,
        environments: own.map((row) => {
          const role = member.owner ? 'owner' : (roles.get(row.id) as Role);
          const held = heldRole(role, app.secondFactor, member);
          return presentEnvironment(row, held, held !== role);
        }),
      };
    });
    return present.filter((app) => member.owner || app.environments.length > 0);
  }

  async createApp(name: string, title: string): Promise<App> {
    const createdAt = new Date(this.parts.now());
    try {
      await this.#orm.insert(apps).values({ name, title, createdAt });
    } catch (error) {
      if (isDuplicate(error)) throw new Problem('already-exists', `There is an app \`${name}\` already. Choose another name.`);
      throw error;
    }
    const made = [
      await this.createEnvironment(name, { name: 'dev', mode: 'open' }),
      await this.createEnvironment(name, { name: 'live', mode: 'closed' }),
    ];
    return { name, title, secondFactor: false, createdAt: createdAt.toISOString(), environments: made };
  }

  /** @throws {Problem} invalid-input for a database server that the settings do not name */
  #demandServer(server: string | null): void {
    const { names } = this.parts.servers;
    if (server === null || names.includes(server)) return;
    const problem = `There is no database server \`${server}\`.`;
    const expected = names.length > 0 ? `${names.join(', ')}, or nothing for the main one` : 'nothing: ORCHARD_DATABASE_SERVERS names none';
    throw new Problem('invalid-input', problem, { fields: [{ path: 'body.server', problem, expected }] });
  }

  /** Makes the database first: an environment that can be seen is complete. */
  async createEnvironment(app: string, { name, mode, server = null }: NewEnvironment): Promise<EnvironmentDocument> {
    this.#demandServer(server);
    const [known] = await this.#orm.select().from(apps).where(eq(apps.name, app));
    if (!known) throw new Problem('not-found', `There is no app \`${app}\`.`);
    const [twin] = await this.#orm
      .select()
      .from(environments)
      .where(and(eq(environments.app, app), eq(environments.name, name)));
    if (twin) throw new Problem('already-exists', `\`${app}\` has an environment \`${name}\` already.`);
    const id = newEnvironmentId(this.parts.random);
    const row = {
      id,
      app,
      name,
      mode,
      triggers: TRIGGER_FORMAT,
      server,
      sealedKeys: sealEnvironmentKeys(this.parts.secretKey, id, newEnvironmentKeys(this.parts.random)),
      sealedFor: null,
      movedTo: null,
      moving: null,
      widening: true,
      createdAt: new Date(this.parts.now()),
    };
    const environment = this.parts.directory.present(row);
    const { db } = environment;
    await createEnvironmentDatabase(this.parts.servers, db);
    await this.parts.ports.environmentCreated(environment);
    try {
      await this.#orm.insert(environments).values(row);
    } catch (error) {
      await db.drop();
      if (isDuplicate(error)) throw new Problem('already-exists', `\`${app}\` has an environment \`${name}\` already.`);
      throw error;
    }
    this.parts.directory.forget();
    return presentEnvironment(row, 'owner');
  }

  async changeEnvironment(
    { id }: Environment,
    changes: { mode?: Environment['mode'] | undefined; widening?: boolean | undefined },
  ): Promise<void> {
    const set = Object.fromEntries(Object.entries(changes).filter(([, value]) => value !== undefined));
    if (Object.keys(set).length > 0) await this.#orm.update(environments).set(set).where(eq(environments.id, id));
    this.parts.directory.forget();
  }

  /** Rows first, so that nothing more can be written, then the database. */
  async removeEnvironment({ id, db }: Pick<Environment, 'id' | 'db'>): Promise<void> {
    await this.#orm.delete(environments).where(eq(environments.id, id));
    this.parts.directory.forget();
    await db.drop();
    this.parts.servers.forget(id);
    await this.parts.jobs.forget(id);
    await this.parts.ports.environmentRemoved({ id });
  }

  /** @throws {Problem} not-found */
  async changeApp(name: string, changes: { title?: string | undefined; secondFactor?: boolean | undefined }): Promise<void> {
    const set = Object.fromEntries(Object.entries(changes).filter(([, value]) => value !== undefined));
    const [known] = await this.#orm.select().from(apps).where(eq(apps.name, name));
    if (!known) throw new Problem('not-found', `There is no app \`${name}\`.`);
    if (Object.keys(set).length > 0) await this.#orm.update(apps).set(set).where(eq(apps.name, name));
    this.parts.directory.forget();
  }

  async removeApp(name: string): Promise<void> {
    const rows = await this.#orm.select().from(environments).where(eq(environments.app, name));
    for (const { id, server } of rows) await this.removeEnvironment({ id, db: this.parts.servers.databaseOf(id, server) });
    const [result] = await this.#orm.delete(apps).where(eq(apps.name, name));
    if (result.affectedRows === 0) throw new Problem('not-found', `There is no app \`${name}\`.`);
  }

  async listClients(environment: Environment): Promise<Client[]> {
    const [clientRows, keyRows] = await Promise.all([
      this.#orm.select().from(clients).where(eq(clients.environmentId, environment.id)).orderBy(clients.createdAt),
      this.#orm.select().from(keys).where(eq(keys.environmentId, environment.id)).orderBy(keys.createdAt),
    ]);
    return clientRows.map((row) => ({
      name: row.name,
      kind: row.kind as Client['kind'],
      packageIdentifier: row.packageIdentifier,
      project: row.project,
      origins: list(row.origins),
      createdAt: row.createdAt.toISOString(),
      keys: keyRows.filter((key) => key.client === row.name).map((key) => this.#presentKey(key)),
    }));
  }

  async client(environment: Environment, name: string): Promise<Client> {
    const found = (await this.listClients(environment)).find((client) => client.name === name);
    if (!found) throw new Problem('not-found', `${environment.app}/${environment.name} has no client \`${name}\`.`);
    return found;
  }

  async findClient(environment: Environment, name: string): Promise<ClientRow | null> {
    const [row] = await this.#orm
      .select()
      .from(clients)
      .where(and(eq(clients.environmentId, environment.id), eq(clients.name, name)));
    return row ?? null;
  }

  async createClient(environment: Environment, row: Omit<ClientRow, 'environmentId' | 'createdAt'>): Promise<Client> {
    try {
      await this.#orm.insert(clients).values({ ...row, environmentId: environment.id, createdAt: new Date(this.parts.now()) });
    } catch (error) {
      if (isDuplicate(error)) throw new Problem('already-exists', `There is a client \`${row.name}\` already. Choose another name.`);
      throw error;
    }
    if (row.kind !== 'server') await this.createKey(environment, row.name, 'client', 'first', []);
    return this.client(environment, row.name);
  }

  async changeClient(
    environment: Environment,
    name: string,
    changes: Partial<Pick<ClientRow, 'packageIdentifier' | 'project' | 'origins'>>,
  ): Promise<Client> {
    await this.client(environment, name);
    const given = Object.fromEntries(Object.entries(changes).filter(([, value]) => value !== undefined));
    if (Object.keys(given).length > 0)
      await this.#orm
        .update(clients)
        .set(given)
        .where(and(eq(clients.environmentId, environment.id), eq(clients.name, name)));
    this.parts.directory.forget();
    return this.client(environment, name);
  }

  /** Creates a key and returns it whole; a server key is shown only this once. */
  async createKey(environment: Environment, client: string, kind: Key['kind'], name: string, scopes: Key['scopes']): Promise<Key> {
    const key = formatKey(kind, this.parts.random(16));
    const id = this.parts.newId();
    const row: KeyRow = {
      id,
      environmentId: environment.id,
      client,
      kind,
      name,
      scopes,
      hash: hashKey(key),
      hint: key.slice(-6),
      sealed: kind === 'client' ? seal(this.parts.secretKey, `key:${id}`, key) : null,
      createdAt: new Date(this.parts.now()),
      lastUsedAt: null,
      revokedAt: null,
    };
    await this.#orm.insert(keys).values(row);
    return { ...this.#presentKey(row), key };
  }

  async revokeKey(environment: Environment, client: string, id: string): Promise<void> {
    const [result] = await this.#orm
      .update(keys)
      .set({ revokedAt: new Date(this.parts.now()) })
      .where(and(eq(keys.environmentId, environment.id), eq(keys.client, client), eq(keys.id, id)));
    if (result.affectedRows === 0) throw new Problem('not-found', `The client \`${client}\` has no key ${id}.`);
    this.parts.directory.forget();
  }

  /** Records which keys were used since the last time. */
  async noteUse(ids: string[]): Promise<void> {
    if (ids.length > 0)
      await this.#orm
        .update(keys)
        .set({ lastUsedAt: new Date(this.parts.now()) })
        .where(inArray(keys.id, ids));
  }

  #presentKey(row: KeyRow): Key {
    return {
      id: row.id,
      kind: row.kind as Key['kind'],
      client: row.client,
      name: row.name,
      scopes: list(row.scopes) as Key['scopes'],
      hint: row.hint,
      ...(row.sealed ? { key: unseal(this.parts.secretKey, `key:${row.id}`, row.sealed).toString() } : {}),
      createdAt: row.createdAt.toISOString(),
      lastUsedAt: row.lastUsedAt?.toISOString() ?? null,
      revokedAt: row.revokedAt?.toISOString() ?? null,
    };
  }
}

export function presentEnvironment(
  row: Pick<Environment, 'app' | 'name' | 'createdAt' | 'widening' | 'server' | 'movedTo'> & { mode: string },
  role: Role,
  secondFactorNeeded = false,
): EnvironmentDocument {
  const { app, name, mode, widening, server, movedTo, createdAt } = row;
  return {
    app,
    name,
    mode: mode as Environment['mode'],
    widening: Boolean(widening),
    server,
    movedTo,
    role,
    secondFactorNeeded,
    createdAt: createdAt.toISOString(),
  };
}
