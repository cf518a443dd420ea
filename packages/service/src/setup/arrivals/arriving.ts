/** An environment on its way here: its archive, the rows that changed since, and the moment from which it lives here. */
import { rm } from 'node:fs/promises';
import { join } from 'node:path';
import { type ArrivalProgress, type ChangedRows, Problem } from '@orchard/contract';
import { formatKey, readKey } from '@orchard/core';
import { and, eq } from 'drizzle-orm';
import { hashKey, seal, unseal } from '../../platform/access/secrets.js';
import { environments } from '../../platform/access/systemTables.js';
import type { Environment } from '../../platform/call.js';
import { newestMigration } from '../../platform/database/migrate.js';
import type { Job, JobKind, Lease } from '../../platform/jobs/queue.js';
import { TRIGGER_FORMAT } from '../../platform/live/tables.js';
import { Archive, DamagedObject } from '../backups/archive.js';
import { environmentRow, giveApp, giveKept, type Kept, parseKept } from '../backups/installationRows.js';
import { loadInto, type Opened, structuresOf } from '../backups/loading.js';
import { asProblem } from '../backups/places.js';
import { DirectoryPlace } from '../backups/places/directory.js';
import { BackupKeys } from '../backups/sealing.js';
import { isPlain } from '../backups/structureDdl.js';
import { archiveKey } from './archiveKey.js';
import type { Parts } from './parts.js';
import { RowWriter } from './rowWriterStore.js';
import type { ArrivalRow, ArrivalState, ArrivalStore } from './store.js';

export const ARRIVAL_JOB = 'arrival';
/** How long a ticket may wait for its environment. */
const TICKET_MS = 24 * 3_600_000;
const OPEN: readonly ArrivalState[] = ['awaited', 'receiving', 'loading', 'ready', 'failed'];
/** Another instance has taken it over, the service stops, or it was given up. */
class Left extends Error {}

/** One that was announced. */
type Announced = ArrivalRow & { app: string; environment: string; environmentId: string };
export type Announcement = { app: string; environment: string; id: string; migration: number };

export class Arriving {
  constructor(
    private readonly parts: Parts,
    private readonly store: ArrivalStore,
  ) {}

  readonly job: JobKind = { work: (job, lease) => this.#load(job, lease), atOnce: 1 };

  async ticket(by: string): Promise<{ row: ArrivalRow; ticket: string }> {
    const { parts, store } = this;
    const ticket = formatKey('setup', parts.random(16));
    const at = new Date(parts.now());
    const expiresAt = new Date(at.getTime() + TICKET_MS);
    const row = await store.add({
      id: parts.newId(),
      ticketHash: hashKey(ticket),
      state: 'awaited',
      by,
      at,
      expiresAt,
      notes: [],
    });
    return { row, ticket };
  }

  /** @throws {Problem} arrival-refused */
  async ofTicket(ticket: string): Promise<ArrivalRow> {
    const row = readKey(ticket).ok ? await this.store.ofTicket(hashKey(ticket)) : null;
    if (!row) throw new Problem('arrival-refused');
    if (row.state === 'awaited' && row.expiresAt.getTime() < this.parts.now())
      throw new Problem('arrival-refused', 'The ticket was not used in time. Make a new one: `orchard env receive`.');
    return row;
  }

  async progress({ id }: ArrivalRow): Promise<ArrivalProgress> {
    const { state, doing, problem } = (await this.store.find(id)) as ArrivalRow;
    return { state, doing, problem };
  }

  /** @throws {Problem} wrong-state, already-exists */
  async announce(row: ArrivalRow, { app, environment, id, migration }: Announcement): Promise<void> {
    const { store } = this;
    if (migration !== newestMigration())
      throw new Problem(
        'wrong-state',
        'The two installations run different versions. Update the older one; or restore a backup here, which may be of an older version.',
      );
    await this.#demandFree(app, environment, id);
    if ((await store.underWay(id)).some((other) => other.id !== row.id))
      throw new Problem('already-exists', `${app}/${environment} is on its way here already. Wait until that has ended, or give it up.`);
    if (row.environmentId !== null && row.environmentId !== id)
      throw new Problem('wrong-state', 'The ticket was used for another environment. Make a new one: `orchard env receive`.');
    if (
      !(await store.change(row.id, ['awaited', 'receiving', 'ready', 'failed'], {
        state: 'receiving',
        app,
        environment,
        environmentId: id,
      }))
    )
      throw wrongState(row);
  }

  /** What has moved away from here may come back. @throws {Problem} already-exists */
  async #demandFree(app: string, name: string, id: string): Promise<void> {
    const { orm } = this.parts.database;
    const [byName] = await orm
      .select()
      .from(environments)
      .where(and(eq(environments.app, app), eq(environments.name, name)));
    const [byId] = await orm.select().from(environments).where(eq(environments.id, id));
    for (const found of [byName, byId])
      if (found && found.movedTo === null)
        throw new Problem(
          'already-exists',
          `${found.app}/${found.name} is here already. Rename or delete the one here before ${app}/${name} moves here.`,
        );
  }

  folder({ id }: Pick<ArrivalRow, 'id'>): DirectoryPlace {
    return new DirectoryPlace(this.#directory(id));
  }

  /** Beside the backups; no name of an app begins with a dot. */
  #directory(id: string): string {
    return join(this.parts.config.backupsDirectory, '.arrivals', id);
  }

  /** @throws {Problem} wrong-state */
  async beginLoading(row: ArrivalRow, backup: string, ticket: string): Promise<void> {
    const { parts, store } = this;
    const sealedKey = seal(parts.secretKey, `arrival:${row.id}`, archiveKey(ticket).hex);
    const begun = await parts.database.unit(async () => {
      if (!(await store.change(row.id, ['receiving', 'ready'], { state: 'loading', backup, sealedKey }))) return false;
      await parts.jobs.add(parts.database, parts.directory.installation(), ARRIVAL_JOB, row.id);
      return true;
    });
    if (!begun) throw wrongState(row);
    await parts.jobs.wake(parts.directory.installation());
  }

  async #load(job: Job, lease: Lease): Promise<Date | null> {
    const { parts, store } = this;
    const row = await store.find(job.subject);
    if (row?.state !== 'loading') return null;
    const tell = async (doing: string) => {
      if (lease.stopping() || !(await lease.renew()) || !(await store.change(row.id, ['loading'], { doing }))) throw new Left();
    };
    try {
      await parts.servers.leases.with(leaseOf(row), () => this.#makeTables(row as Announced, tell));
      await store.change(row.id, ['loading'], { state: 'ready', doing: null });
    } catch (error) {
      if (error instanceof Left) return lease.stopping() ? new Date(parts.now()) : null;
      const problem = asProblem(error instanceof DamagedObject ? new Problem('backup-unreadable', error.message) : error);
      if (!(problem instanceof Problem) || problem.problem === 'busy') throw error;
      await store.change(row.id, ['loading'], { state: 'failed', problem: problem.detail.slice(0, 2000), doing: null });
    }
    return null;
  }

  async #makeTables(row: Announced, tell: (doing: string) => Promise<void>): Promise<void> {
    const { parts } = this;
    const archive = new Archive(this.folder(row), row);
    const hex = unseal(parts.secretKey, `arrival:${row.id}`, row.sealedKey ?? '').toString();
    const opened: Opened = { archive, ...(await archive.open(row.backup ?? '', new BackupKeys([hex], 'the ticket'))) };
    await this.#demandFree(row.app, row.environment, row.environmentId);
    for (const structure of await structuresOf(opened))
      if (!isPlain(structure)) throw new Problem('backup-unreadable', `The structure of ${structure.name} does more than make a table.`);
    await loadInto(opened, parts.servers.databaseOf(row.environmentId, null), false, tell);
    const kept = await parseKept(archive.lines([opened.manifest.setup], opened.key));
    await tell('Bringing the tables up to date');
    await parts.ports.environmentReturned(this.#environment(row, kept, 0));
  }

  #rowOf({ app, environment, environmentId }: Announced, kept: Kept): typeof environments.$inferInsert {
    const { parts } = this;
    return environmentRow(parts, { app, name: environment, id: environmentId, createdAt: new Date(parts.now()) }, kept.environment, false);
  }

  #environment(row: Announced, kept: Kept, triggers: number): Environment {
    return this.parts.directory.present({
      ...this.#rowOf(row, kept),
      triggers,
      server: null,
      movedTo: null,
    } as typeof environments.$inferSelect);
  }

  /** @throws {Problem} wrong-state */
  ready(row: ArrivalRow): Announced {
    if (row.state !== 'ready') throw wrongState(row);
    return row as Announced;
  }

  async takeChanges(row: Announced, tables: readonly ChangedRows[]): Promise<void> {
    const writer = await this.#writer(row);
    try {
      for (const { keys, rows, ...change } of tables)
        await writer.write({ ...change, keys: keys.map((values) => values.map(bytesOf)), rows: rows.map((values) => values.map(bytesOf)) });
    } finally {
      writer.close();
    }
  }

  #writer({ environmentId }: Announced): Promise<RowWriter> {
    return RowWriter.open(this.parts.servers.databaseOf(environmentId, null));
  }

  /**
   * From now on it lives here.
   * @throws {Problem} wrong-state, already-exists; nothing has changed then
   */
  async finish(row: Announced, setup: readonly string[], counts: readonly { table: string; rows: number }[]): Promise<void> {
    const { parts, store } = this;
    await this.#demandCounts(row, counts);
    const kept = await parseKept(linesOf(setup));
    const fresh = { ...this.#rowOf(row, kept), triggers: TRIGGER_FORMAT };
    const endedAt = new Date(parts.now());
    const notes = await parts.database.unit(async () => {
      if (!(await store.change(row.id, ['ready'], { state: 'arrived', endedAt, doing: null }))) throw wrongState(row);
      await this.#demandFree(row.app, row.environment, row.environmentId);
      const { orm } = parts.database;
      await orm.delete(environments).where(and(eq(environments.app, row.app), eq(environments.name, row.environment)));
      await giveApp(parts, row.app, kept, endedAt);
      await orm.insert(environments).values(fresh);
      return giveKept(parts, row.environmentId, kept, true);
    });
    parts.directory.forget();
    await parts.jobs.resume([this.#environment(row, kept, TRIGGER_FORMAT)]);
    await store.change(row.id, ['arrived'], { notes });
    await this.#tidy(row);
  }

  async #demandCounts(row: Announced, counts: readonly { table: string; rows: number }[]): Promise<void> {
    const writer = await this.#writer(row);
    try {
      const here = await writer.count(counts.map(({ table }) => table));
      const differing = counts.filter(({ table, rows }) => here.get(table) !== rows).map(({ table }) => table);
      if (differing.length > 0) throw new Problem('wrong-state', `${differing.join(', ')} did not come over whole. Nothing was changed.`);
    } finally {
      writer.close();
    }
  }

  /** Unless it lives here already: nothing of it stays. */
  async giveUp(row: ArrivalRow): Promise<void> {
    const { parts, store } = this;
    if (!(await store.change(row.id, OPEN, { state: 'given-up', endedAt: new Date(parts.now()), doing: null }))) return;
    const { environmentId } = row;
    // What loads it hears of it with its next step.
    await parts.servers.leases.with(leaseOf(row), async () => {
      if (environmentId !== null && !(await parts.directory.environmentById(environmentId))) {
        await parts.servers.databaseOf(environmentId, null).drop();
        parts.servers.forget(environmentId);
        await parts.ports.environmentRemoved({ id: environmentId });
      }
      await this.#tidy(row);
    });
  }

  async #tidy({ id }: ArrivalRow): Promise<void> {
    await rm(this.#directory(id), { recursive: true, force: true });
  }
}

const leaseOf = ({ id }: ArrivalRow): string => `arrival ${id}`;

const wrongState = ({ state, app, environment }: ArrivalRow): Problem =>
  new Problem('wrong-state', `The arrival of ${app ?? 'an environment'}${environment ? `/${environment}` : ''} is ${state}.`);

/** Bytes come as base64 (RFC 4648 section 4). */
const bytesOf = (value: ChangedRows['rows'][number][number]): string | number | null | Buffer =>
  value !== null && typeof value === 'object' ? Buffer.from(value.base64, 'base64') : value;

async function* linesOf(lines: readonly string[]): AsyncGenerator<string> {
  yield* lines;
}
