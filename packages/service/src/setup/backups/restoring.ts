/**
 * Restores from a backup, as a job of the installation. A whole environment is made beside the one there is, under an id of its
 * own, and takes its place once it is complete: until then nothing has changed, and afterwards there is a way back.
 */
import { setTimeout as sleep } from 'node:timers/promises';
import { Readable } from 'node:stream';
import { link, mkdir, stat } from 'node:fs/promises';
import { dirname } from 'node:path';
import { Problem } from '@orchard/contract';
import { eq } from 'drizzle-orm';
import { environments } from '../../platform/access/systemTables.js';
import { newEnvironmentId } from '../../platform/access/environmentKeys.js';
import { REMEMBER_MS } from '../../platform/access/directory.js';
import type { Environment } from '../../platform/call.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import type { Job, JobKind, Lease } from '../../platform/jobs/queue.js';
import { TRIGGER_FORMAT } from '../../platform/live/tables.js';
import { Archive, type ArchivedFile, DamagedObject } from './archive.js';
import { environmentRow, giveApp, giveKept, handOver, type Kept, parseKept } from './installationRows.js';
import { fillTable, loadInto, type Opened, structuresOf } from './loading.js';
import { type Ground, HandedOver, leaseOf } from './ground.js';
import { FEED, goForward, liftFeed, usersAmong } from './momentStore.js';
import { dropTable } from './tableDdl.js';
import { asProblem } from './places.js';
import { demandReadable, openFile } from './proving.js';
import { restoreRecords } from './recordRestoreStore.js';
import type { RestoreRow } from './store.js';
import { makingOf } from './structureDdl.js';
import { TableLoader } from './threads/tableLoader.js';
import type { RestoreWish } from './wish.js';

/** How long the environment that was replaced is kept. */
const KEEP_REPLACED_MS = 3 * 86_400_000;
/** Other instances take a little while to see which environment a key leads to. */
const SEEN_MS = REMEMBER_MS + 500;

type Tell = (doing: string) => Promise<void>;
export type EnvironmentWish = Extract<RestoreWish, { what: 'environment' }>;

export class Restoring {
  constructor(private readonly ground: Ground) {}

  readonly job: JobKind = { work: (job, lease) => this.#work(job, lease), atOnce: 1 };

  async #work(job: Job, lease: Lease): Promise<Date | null> {
    const { parts, store } = this.ground;
    const row = await store.findRestore(job.subject);
    if (row?.state !== 'running') return null;
    const tell: Tell = async (doing) => {
      if (lease.stopping() || !(await lease.renew())) throw new HandedOver();
      await store.changeRestore(row.id, { doing });
    };
    try {
      await parts.servers.leases.with(leaseOf(row), () => this.#restore(row, tell));
    } catch (error) {
      if (error instanceof HandedOver) return new Date(parts.now());
      const problem = asProblem(error);
      if (!(problem instanceof Problem) || problem.problem === 'busy') throw error;
      await this.#giveUp(row, problem.detail);
    }
    return null;
  }

  async #restore(row: RestoreRow, tell: Tell): Promise<void> {
    const { wish } = row;
    if (wish.what === 'records') {
      const { rows, notes } = await restoreRecords(this.ground, row, wish, tell);
      await this.#end(row, { state: 'done', rows, notes });
    } else await this.ground.places.with(async (place) => this.#environment(row, wish, new Archive(place, row), tell));
  }

  async #environment(row: RestoreRow, wish: EnvironmentWish, archive: Archive, tell: Tell): Promise<void> {
    const { parts, keys, store } = this.ground;
    const opened: Opened = { archive, ...(await archive.open(row.backup, keys)) };
    demandReadable(opened.manifest);
    const now = await parts.directory.environment(row.app, row.environment).catch(() => null);
    // Killed after the exchange: all that is left is to say so.
    if (await this.#isInPlace(row)) return this.#end(row, { state: 'done' });
    const id = await this.#freshId(row);
    // Where the present one is: the settings may have put it there for a reason.
    const server = now?.server ?? null;
    const db = parts.servers.databaseOf(id, server);
    await loadInto(opened, db, false, tell);
    const forward = wish.moment ? await this.#forward(opened, db, now, new Date(wish.moment), tell) : { changes: 0, notes: [] };
    await liftFeed(db, now?.db ?? null);
    const kept = await parseKept(archive.lines([opened.manifest.setup], opened.key));
    const isCopy = wish.into !== null && now !== null;
    const name = wish.into ?? row.environment;
    const fresh = {
      ...environmentRow(parts, { app: row.app, name, id, createdAt: new Date(parts.now()) }, kept.environment, isCopy),
      server,
    };
    const environment = parts.directory.present({ triggers: 0, ...fresh } as typeof environments.$inferSelect);
    await tell('Bringing the tables up to date');
    await parts.ports.environmentReturned(environment);
    await parts.jobs.dropReturned(environment, isCopy);
    const lost = await this.#files(opened, environment, now, tell);
    const erased = await this.#eraseAgain(archive, row, environment, now, tell);
    const given = await this.#putInPlace(row, { ...fresh, triggers: TRIGGER_FORMAT }, now, wish, kept);
    await parts.jobs.resume([environment]);
    const rows = opened.manifest.tables.reduce((sum, table) => sum + table.rows, 0);
    const notes = [
      ...forward.notes,
      ...(wish.moment
        ? [`${forward.changes} records and users are as of ${wish.moment}; everything else is as of ${opened.manifest.at}.`]
        : []),
      ...(erased > 0 ? [`${erased} people who were erased since the backup were erased again.`] : []),
      ...(lost > 0 ? [`${lost} files are not in the backup: they were damaged or gone when it was made.`] : []),
      ...(isCopy
        ? [
            'Nothing runs or is sent by itself in the copy: schedules and standing notifications begin once they are saved again. It has no keys yet.',
          ]
        : []),
      ...given,
    ];
    // Until the other instances have seen it, they serve the former one.
    await sleep(SEEN_MS);
    await this.#end(row, { state: 'done', rows, notes });
    await store.changeRestore(row.id, { doing: null });
  }

  /** Whether what was filled is an environment by now: then it stays. */
  async #isInPlace({ filling }: RestoreRow): Promise<boolean> {
    return filling !== null && (await this.ground.parts.directory.environmentById(filling)) !== null;
  }

  /** What an attempt that was killed has left is removed, under the same id. */
  async #freshId(row: RestoreRow): Promise<string> {
    const { parts, store } = this.ground;
    if (row.filling) await parts.ports.environmentRemoved({ id: row.filling });
    const id = row.filling ?? newEnvironmentId(parts.random);
    await store.changeRestore(row.id, { filling: id });
    return id;
  }

  /** By the feed of the environment as it is now; where that is gone, by that of the first backup after the moment. */
  async #forward(opened: Opened, db: EnvironmentDatabase, now: Environment | null, moment: Date, tell: Tell) {
    const since = new Date(opened.manifest.at);
    if (now) return goForward(db, { db: now.db, feed: now.db.collection(FEED) }, { since, until: moment }, tell);
    const later = await this.#laterBackup(opened, moment);
    if (!later)
      return {
        changes: 0,
        notes: ['The environment is gone, and no backup after the moment has its changes: records and users are as of the backup too.'],
      };
    const feed = '_feedLater';
    const structure = (await structuresOf(later)).find(({ name }) => name === FEED);
    const table = later.manifest.tables.find(({ name }) => name === FEED);
    if (!structure || !table) throw new Error('a backup without a change feed');
    await db.run(makingOf(structure, db.collection(feed), true).make);
    const loader = new TableLoader(db.server.url, later.key, false);
    try {
      await fillTable(later.archive, table, db.collection(feed), loader);
    } finally {
      await loader.close();
    }
    const found = await goForward(db, { db, feed: db.collection(feed) }, { since, until: moment }, tell);
    await dropTable(db, feed);
    return found;
  }

  async #laterBackup({ archive, manifest }: Opened, moment: Date): Promise<Opened | null> {
    let best: Opened | null = null;
    for (const id of await archive.backups()) {
      if (id === manifest.id) continue;
      const opened = await archive.open(id, this.ground.keys).catch(() => null);
      if (!opened || new Date(opened.manifest.at) < moment) continue;
      if (!best || opened.manifest.at < best.manifest.at) best = { archive, ...opened };
    }
    return best;
  }

  /** Contents that are here already are not copied. @returns how many the backup does not have */
  async #files({ archive, manifest, key }: Opened, environment: Environment, now: Environment | null, tell: Tell): Promise<number> {
    const { bytes } = this.ground.parts.contents;
    let done = 0;
    for await (const line of archive.lines(manifest.files.parts, key)) {
      const [digest, , object] = JSON.parse(line) as ArchivedFile;
      const place = bytes.place(environment.id, digest);
      if (!(now && (await linked(bytes.place(now.id, digest), place)))) {
        const arrived = await bytes.take(environment.id, Readable.from(openFile(archive, object, key))).catch((error) => {
          throw error instanceof Problem ? error : new DamagedObject(archive, object);
        });
        if (arrived.digest !== digest) throw new DamagedObject(archive, object);
        await bytes.keep(environment.id, arrived);
      }
      if (++done % 100 === 0) await tell(`Restoring files: ${done} of ${manifest.files.count}`);
    }
    return manifest.files.missing;
  }

  async #eraseAgain(archive: Archive, row: RestoreRow, environment: Environment, now: Environment | null, tell: Tell): Promise<number> {
    const { erasures } = this.ground;
    await tell('Erasing again who was erased');
    const all = await erasures.all(archive, row);
    // Somebody whom the environment has now was not erased: that removal came to nothing.
    const there = now ? await usersAmong(now, [...all.keys()]) : new Set<string>();
    return erasures.repeat(
      environment,
      [...all.keys()].filter((id) => !there.has(id)),
    );
  }

  async #putInPlace(
    row: RestoreRow,
    fresh: typeof environments.$inferInsert,
    now: Environment | null,
    wish: EnvironmentWish,
    kept: Kept,
  ): Promise<string[]> {
    const { parts, store } = this.ground;
    const { orm } = parts.database;
    if (wish.into !== null || !now) {
      const given = await parts.database.unit(async () => {
        await giveApp(parts, row.app, kept, new Date(parts.now()));
        await orm.insert(environments).values(fresh);
        return giveKept(parts, fresh.id, kept, !now);
      });
      parts.directory.forget();
      return given;
    }
    const [old] = await orm.select().from(environments).where(eq(environments.id, now.id));
    await parts.database.unit(async () => {
      // The name is free for the moment in which both have a row.
      await orm
        .update(environments)
        .set({ name: `${now.name}~` })
        .where(eq(environments.id, now.id));
      await orm.insert(environments).values({ ...fresh, createdAt: now.createdAt });
      await handOver(parts.database, now.id, fresh.id);
      await orm.delete(environments).where(eq(environments.id, now.id));
      await store.changeRestore(row.id, {
        replaced: now.id,
        replacedRow: old as never,
        replacedUntil: new Date(parts.now() + KEEP_REPLACED_MS),
      });
    });
    parts.directory.forget();
    await parts.jobs.forget(now.id);
    return [];
  }

  /** Nothing of it stays. */
  async #giveUp(row: RestoreRow, problem: string): Promise<void> {
    const { parts, store } = this.ground;
    const latest = (await store.findRestore(row.id)) ?? row;
    const { filling } = latest;
    if (filling && !(await this.#isInPlace(latest))) {
      const now = await parts.directory.environment(row.app, row.environment).catch(() => null);
      await this.#drop(filling, now?.server ?? null);
    }
    await this.#end(row, { state: 'failed', problem: problem.slice(0, 2000) });
  }

  async #end(row: RestoreRow, changes: Partial<RestoreRow>): Promise<void> {
    await this.ground.store.changeRestore(row.id, { doing: null, endedAt: new Date(this.ground.parts.now()), ...changes });
  }

  /**
   * Puts the environment back that a restore has replaced; what was written since is gone with the restored one.
   * @throws {Problem} wrong-state
   */
  async undo(row: RestoreRow): Promise<void> {
    const { parts, store } = this.ground;
    const { orm } = parts.database;
    const now = await parts.directory.environment(row.app, row.environment).catch(() => null);
    if (row.state !== 'done' || !row.replaced || !row.replacedRow || now?.id !== row.filling)
      throw new Problem('wrong-state', 'The environment that it replaced is not kept any more, or another one has taken its place since.');
    const old = row.replacedRow as unknown as typeof environments.$inferInsert;
    await parts.database.unit(async () => {
      await orm
        .update(environments)
        .set({ name: `${row.environment}~` })
        .where(eq(environments.id, row.filling as string));
      await orm.insert(environments).values({ ...old, createdAt: new Date(old.createdAt) });
      await handOver(parts.database, row.filling as string, old.id);
      await orm.delete(environments).where(eq(environments.id, row.filling as string));
      await store.changeRestore(row.id, { state: 'undone', replaced: null, replacedRow: null, replacedUntil: null });
    });
    parts.directory.forget();
    await parts.jobs.forget(row.filling as string);
    await sleep(SEEN_MS);
    await this.#drop(row.filling as string, now.server);
    const back = await parts.directory.environment(row.app, row.environment);
    await parts.jobs.resume([back]);
  }

  /** Every hour: environments that were replaced long enough ago. */
  async dropReplaced(): Promise<void> {
    const { parts, store } = this.ground;
    for (const row of await store.over(new Date(parts.now()))) {
      const { server } = row.replacedRow as { server?: string | null };
      await this.#drop(row.replaced as string, server ?? null);
      await store.changeRestore(row.id, { replaced: null, replacedRow: null, replacedUntil: null });
    }
  }

  async #drop(id: string, server: string | null): Promise<void> {
    const { parts } = this.ground;
    await parts.servers.databaseOf(id, server).drop();
    parts.servers.forget(id);
    await parts.ports.environmentRemoved({ id });
  }
}

/** Gives a content that is stored already a second name. @returns false where it is not */
async function linked(from: string, to: string): Promise<boolean> {
  try {
    await stat(from);
    await mkdir(dirname(to), { recursive: true });
    await link(from, to);
    return true;
  } catch (error) {
    const { code } = error as NodeJS.ErrnoException;
    if (code === 'EEXIST') return true;
    return false;
  }
}
