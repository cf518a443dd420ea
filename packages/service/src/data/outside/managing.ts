/** What the team does with outside servers and tables: add, change, check, remove. */
import { lookup } from 'node:dns/promises';
import { type Collection, type GatewayCheck, type OutsideDefinition, type OutsideServer, Problem, type SeenTable } from '@orchard/contract';
import { type AccessRules, type FieldType, NAME_PATTERN, nearest, OWNER_ONLY } from '@orchard/core';
import { isPublic } from '../../platform/http/publicHosts.js';
import { seal } from '../../platform/access/secrets.js';
import type { Environment } from '../../platform/call.js';
import { isDuplicate } from '../../platform/database/errors.js';
import { seenTables, versionOf } from './describeSql.js';
import { contextOf, type OutsideDirectory } from './directory.js';
import { outsideProblem } from './errors.js';
import { type OutsideField, OutsideTable } from './outsideTable.js';
import type { Parts } from './parts.js';
import { OutsideRows } from './rowsStore.js';
import type { ServerRow, TableRow } from './store.js';

type NewServer = {
  name: string;
  kind: 'mariadb' | 'postgresql';
  host: string;
  port: number;
  database: string;
  user: string;
  tls: boolean;
  trust?: string | undefined;
  password: string;
};
const SYSTEM = new Set(['id', 'createdAt', 'updatedAt', 'version', 'ownerId']);
const NOBODY: AccessRules = { read: 'FALSE', create: 'FALSE', update: 'FALSE', delete: 'FALSE' };

const invalid = (path: string, problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path: `body.${path}`, problem, expected }] });

export class OutsideManaging {
  constructor(
    private readonly parts: Parts,
    private readonly directory: OutsideDirectory,
  ) {}

  present({ sealed: _s, id: _i, createdAt, updatedAt, check, trust, ...row }: ServerRow): OutsideServer {
    return {
      ...row,
      kind: row.kind as OutsideServer['kind'],
      tls: Boolean(row.tls),
      ...(trust ? { trust } : {}),
      check: check as GatewayCheck | null,
      createdAt: createdAt.toISOString(),
      updatedAt: updatedAt.toISOString(),
    };
  }

  /** @throws {Problem} not-found */
  async server(environment: Environment, name: string): Promise<ServerRow> {
    const row = await this.directory.store.server(environment, name);
    if (!row)
      throw new Problem(
        'not-found',
        `There is no outside server ${name} in ${environment.app}/${environment.name}. \`orchard outside-server list\` lists them.`,
      );
    return row;
  }

  /** A private address is called only where the settings of the installation name it. @throws {Problem} invalid-input */
  async #demandNamed({ kind, host, port }: Pick<NewServer, 'kind' | 'host' | 'port'>): Promise<void> {
    const origin = `${kind}://${host}:${port}`;
    if (this.parts.config.pushOrigins.includes(origin)) return;
    const found = await lookup(host, { all: true }).catch(() => []);
    if (found.length > 0 && found.every(({ address }) => isPublic(address))) return;
    throw invalid(
      'host',
      found.length === 0 ? `${host} cannot be resolved.` : `${origin} is on a private network.`,
      `an address on the internet; or list ${origin} in ORCHARD_PUSH_ORIGINS`,
    );
  }

  /** @throws {Problem} already-exists, invalid-input */
  async addServer(environment: Environment, { password, trust, ...wanted }: NewServer): Promise<OutsideServer> {
    await this.#demandNamed(wanted);
    const now = new Date(this.parts.now());
    const id = this.parts.newId();
    const row: ServerRow = {
      id,
      ...wanted,
      trust: trust ?? null,
      sealed: seal(environment.keys.data, contextOf(environment, id), password),
      check: null,
      createdAt: now,
      updatedAt: now,
    };
    await this.directory.store.addServer(environment, row).catch((error) => {
      if (isDuplicate(error)) throw new Problem('already-exists', `There is an outside server ${wanted.name} already.`);
      throw error;
    });
    return this.present(row);
  }

  /** @throws {Problem} not-found, invalid-input */
  async changeServer(
    environment: Environment,
    name: string,
    { password, ...changes }: Partial<Omit<NewServer, 'kind' | 'name'>>,
  ): Promise<OutsideServer> {
    const row = await this.server(environment, name);
    const given = Object.fromEntries(Object.entries(changes).filter(([, value]) => value !== undefined));
    await this.#demandNamed({ ...row, ...given } as unknown as NewServer);
    await this.directory.store.changeServer(environment, row.id, {
      ...given,
      ...(password === undefined ? {} : { sealed: seal(environment.keys.data, contextOf(environment, row.id), password) }),
      check: null,
      updatedAt: new Date(this.parts.now()),
    });
    this.directory.forget(environment);
    return this.present(await this.server(environment, name));
  }

  /** @throws {Problem} not-found, wrong-state */
  async removeServer(environment: Environment, name: string): Promise<void> {
    const row = await this.server(environment, name);
    const tables = await this.directory.store.tablesOf(environment, row.id);
    if (tables > 0)
      throw new Problem(
        'wrong-state',
        `${tables} outside table${tables === 1 ? ' is' : 's are'} on ${name}. Remove ${tables === 1 ? 'it' : 'them'} first.`,
      );
    await this.directory.store.removeServer(environment, row.id);
    this.directory.drop(row.id);
  }

  /** Connects, and says what the server is and shows. */
  async checkServer(environment: Environment, name: string): Promise<GatewayCheck> {
    const row = await this.server(environment, name);
    const steps: GatewayCheck['steps'] = [];
    const step = async (what: string, work: () => Promise<string>) => {
      if (steps.some(({ ok }) => !ok)) return;
      const text = await work().then(
        (said) => ({ ok: true, said }),
        (error) => {
          const problem = outsideProblem(error, name);
          return { ok: false, said: problem instanceof Problem ? problem.detail : (error as Error).message };
        },
      );
      steps.push({ what, ok: text.ok, text: text.said });
    };
    const connection = this.directory.connection(environment, row);
    await step('connection', async () => `It answers as ${(await versionOf(connection)).replace(/ on .*| \(.*/, '')}.`);
    await step('tables', async () => {
      const tables = await seenTables(connection, row.kind as OutsideServer['kind']);
      if (tables.length === 0)
        throw new Problem('outside-unavailable', `${row.user} may read no table of ${row.database}. Grant SELECT on those to show.`);
      return `${row.user} may read ${tables.length === 1 ? 'one table or view' : `${tables.length} tables and views`}.`;
    });
    const check: GatewayCheck = { ok: steps.every(({ ok }) => ok), at: new Date(this.parts.now()).toISOString(), steps };
    await this.directory.store.changeServer(environment, row.id, { check: check as never });
    return check;
  }

  /** @throws {Problem} not-found, outside-unavailable */
  async seen(environment: Environment, name: string): Promise<SeenTable[]> {
    return this.#look(environment, await this.server(environment, name), null);
  }

  async #look(environment: Environment, row: ServerRow, only: string | null): Promise<SeenTable[]> {
    try {
      return await seenTables(this.directory.connection(environment, row), row.kind as OutsideServer['kind'], only);
    } catch (error) {
      throw outsideProblem(error, row.name);
    }
  }

  /** @throws {Problem} not-found, outside-changed, outside-unavailable */
  async #oneSeen(environment: Environment, server: ServerRow, table: string): Promise<SeenTable> {
    const [found] = await this.#look(environment, server, table);
    if (found) return found;
    const all = await this.#look(environment, server, null);
    throw new Problem(
      'not-found',
      `${server.name} shows no table ${table}${
        nearest(
          table,
          all.map((one) => one.table),
        ) || '.'
      } \`orchard outside-server tables ${server.name}\` lists them.`,
    );
  }

  /**
   * Shows a table as a collection, or changes how.
   * @returns the collection, and whether it is new
   * @throws {Problem} not-found, already-exists, invalid-input, malformed-filter, outside-unsupported
   */
  async putTable(
    environment: Environment,
    name: string,
    body: OutsideDefinition,
    by: string,
  ): Promise<{ collection: Collection; isNew: boolean }> {
    if (await this.parts.catalogue.find(environment, name))
      throw new Problem('already-exists', `There is a collection \`${name}\` in this environment already.`);
    const server = await this.server(environment, body.server);
    const seen = await this.#oneSeen(environment, server, body.table);
    const before = (await this.directory.tables(environment)).get(name);
    const now = new Date(this.parts.now());
    for (const [member, column] of Object.entries({ key: body.key, version: body.version, owner: body.owner, changes: body.changes }))
      if (column !== undefined) demandColumn(seen, column, member);
    if (body.version && seen.columns.find(({ column }) => column === body.version)?.as !== 'integer')
      throw invalid(
        'version',
        `\`${body.version}\` holds no whole numbers.`,
        'a column of whole numbers; or none, and a hash of the row stands for the version',
      );
    const rules = { ...(body.owner ? OWNER_ONLY : NOBODY), ...before?.rules, ...body.rules } as AccessRules;
    const row: TableRow = {
      name,
      serverId: server.id,
      table: body.table,
      key: body.key,
      version: body.version ?? null,
      owner: body.owner ?? null,
      changes: body.changes ?? null,
      writable: body.writable,
      fields: (body.fields ? checkedFields(seen, body.fields) : fieldsOf(seen, body)) as never,
      rules,
      seen: seen as never,
      checkedAt: now,
      createdBy: by,
      createdAt: before?.row.createdAt ?? now,
      updatedAt: now,
    };
    const table = new OutsideTable(environment, row, server, this.directory.connection(environment, server));
    new OutsideRows(this.parts, table, await this.parts.ports.userFields(environment)).demandRules();
    await this.directory.store.putTable(environment, row);
    this.directory.forget(environment);
    return { collection: table.document(), isNew: !before };
  }

  /** @throws {Problem} collection-unknown */
  async table(environment: Environment, name: string): Promise<OutsideTable> {
    const table = (await this.directory.tables(environment)).get(name);
    if (!table) throw new Problem('collection-unknown', `There is no outside table \`${name}\` in ${environment.app}/${environment.name}.`);
    return table;
  }

  /** @throws {Problem} collection-unknown */
  async removeTable(environment: Environment, name: string): Promise<void> {
    await this.table(environment, name);
    await this.directory.store.removeTable(environment, name);
    this.directory.forget(environment);
  }

  /** Looks at the table again. @throws {Problem} collection-unknown, outside-unavailable */
  async checkTable(environment: Environment, name: string): Promise<Collection> {
    const { row, server } = await this.table(environment, name);
    const [seen] = await this.#look(environment, server, row.table);
    const gone: SeenTable = { table: row.table, view: false, rows: null, columns: [] };
    await this.directory.store.changeTable(environment, name, { seen: (seen ?? gone) as never, checkedAt: new Date(this.parts.now()) });
    this.directory.forget(environment);
    return (await this.table(environment, name)).document();
  }

  /** @throws {Problem} outside-unsupported, malformed-filter */
  async changeElsewhere(
    environment: Environment,
    name: string,
    { rules, addFields }: { rules?: Partial<AccessRules> | undefined; addFields?: object[] | undefined },
  ): Promise<void> {
    const table = await this.table(environment, name);
    if (addFields?.length) table.refuse('its fields are columns of that server; choose them on its page');
    if (!rules) return;
    const row = { ...table.row, rules: { ...table.rules, ...rules } };
    const changed = new OutsideTable(environment, row, table.server, table.connection);
    new OutsideRows(this.parts, changed, await this.parts.ports.userFields(environment)).demandRules();
    await this.directory.store.changeTable(environment, name, { rules: row.rules, updatedAt: new Date(this.parts.now()) });
    this.directory.forget(environment);
  }
}

/** @throws {Problem} invalid-input */
function demandColumn(seen: SeenTable, column: string, path: string): SeenTable['columns'][number] {
  const found = seen.columns.find((one) => one.column === column);
  const names = seen.columns.map((one) => one.column);
  if (!found)
    throw invalid(path, `${seen.table} has no column \`${column}\`${nearest(column, names) || '.'}`, `one of: ${names.join(', ')}`);
  return found;
}

/** @throws {Problem} invalid-input */
function checkedFields(seen: SeenTable, wanted: NonNullable<OutsideDefinition['fields']>): OutsideField[] {
  const names = new Set<string>();
  return wanted.map(({ name, column, type, hidden }, i) => {
    const { as, type: there } = demandColumn(seen, column, `fields.${i}.column`);
    if (SYSTEM.has(name) || names.has(name)) throw invalid(`fields.${i}.name`, `\`${name}\` is taken.`, 'another name');
    names.add(name);
    const fits =
      as === type ||
      (as === 'text' && ['choice', 'object', 'list'].includes(type)) ||
      (as === 'object' && type === 'list') ||
      (as === 'integer' && type === 'number');
    if (!fits)
      throw invalid(
        `fields.${i}.type`,
        `\`${column}\` is ${there} there, which is no ${type}.`,
        as ? `type ${as}` : 'another column: this one cannot be shown',
      );
    return { name, column, type, ...(hidden ? { hidden } : {}) };
  });
}

/** Every column that can be shown and stands for nothing else, under a name that a field can have. */
function fieldsOf(seen: SeenTable, { key, version, owner }: OutsideDefinition): OutsideField[] {
  const names = new Set<string>(SYSTEM);
  return seen.columns
    .filter(({ column, as }) => as !== null && ![key, version, owner].includes(column))
    .flatMap(({ column, as }): OutsideField[] => {
      const name = `${column.charAt(0).toLowerCase()}${column.slice(1)}`.replace(/\W/g, '_');
      if (!NAME_PATTERN.test(name) || names.has(name)) return [];
      names.add(name);
      return [{ name, column, type: as as FieldType }];
    });
}
