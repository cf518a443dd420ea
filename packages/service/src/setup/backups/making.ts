/** Makes a backup, as a job of the installation: what is there already is not stored again, so that one that was killed goes on. */
import { createReadStream } from 'node:fs';
import { ARCHIVE_FORMAT, type ArchiveManifest, Problem } from '@orchard/contract';
import pLimit from 'p-limit';
import { pipeline } from 'node:stream/promises';
import { PassThrough } from 'node:stream';
import { newestMigration } from '../../platform/database/migrate.js';
import type { Environment } from '../../platform/call.js';
import type { Job, JobKind, Lease } from '../../platform/jobs/queue.js';
import { Archive, type ArchivedFile } from './archive.js';
import { archiveTables } from './archiving.js';
import { type Ground, HandedOver, leaseOf, PROOF_JOB } from './ground.js';
import { readKept } from './installationRows.js';
import { tidy } from './keeping.js';
import { DigestThrough } from './digestThrough.js';
import { asProblem } from './places.js';
import { CIPHER, type BackupKey } from './sealing.js';
import { backupSettings } from './settings.js';
import type { BackupRow } from './store.js';

/** Files that are stored at a time. */
const FILES_AT_ONCE = 4;

export class Making {
  constructor(private readonly ground: Ground) {}

  readonly job: JobKind = { work: (job, lease) => this.#work(job, lease), atOnce: 1 };

  async #work(job: Job, lease: Lease): Promise<Date | null> {
    const { parts, store } = this.ground;
    const row = await store.find(job.subject);
    if (row?.state !== 'running') return null;
    const environment = await parts.directory.environment(row.app, row.environment).catch(() => null);
    if (!environment) {
      await this.#end(row, 'failed', `There is no ${row.app}/${row.environment} any more.`);
      return null;
    }
    try {
      await this.make(environment, row, lease);
    } catch (error) {
      if (error instanceof HandedOver) return new Date(parts.now());
      const problem = asProblem(error);
      if (!(problem instanceof Problem) || problem.problem === 'busy') throw error;
      await this.#end(row, 'failed', problem.detail);
      await this.#tellFailure(environment, row, problem.detail);
    }
    return null;
  }

  /** @throws what ends it */
  async make(environment: Environment, row: BackupRow, lease: Lease): Promise<void> {
    const { parts, store, places, keys, erasures } = this.ground;
    await parts.servers.leases.with(leaseOf(row), () =>
      places.with(async (place) => {
        const archive = new Archive(place, row);
        const known = new Set(await archive.objects());
        const tell = async (doing: string) => {
          if (lease.stopping() || !(await lease.renew())) throw new HandedOver();
          await store.change(row.id, { doing });
        };
        await tell('Reading the tables');
        const made = await archiveTables({ environment, archive, key: keys.current, known, tell });
        await tell('Storing the files');
        const files = await this.#files(environment, archive, known, keys.current, tell);
        const setup = await archive.writeLines(await readKept(parts, environment), keys.current, known);
        const unsigned: Omit<ArchiveManifest, 'mac'> = {
          archive: ARCHIVE_FORMAT,
          id: row.id,
          app: row.app,
          environment: row.environment,
          environmentId: environment.id,
          at: made.at.toISOString(),
          by: row.by,
          note: row.note,
          migration: newestMigration(),
          cipher: CIPHER,
          key: keys.current.mark,
          feed: made.feed,
          tables: made.tables,
          structure: made.structure,
          setup: setup.parts[0] as ArchiveManifest['setup'],
          files: files.listed,
        };
        await archive.writeManifest({ ...unsigned, mac: keys.current.macOf(unsigned) });
        const rows = made.tables.reduce((sum, table) => sum + table.rows, 0);
        const bytes = made.tables.reduce((sum, table) => sum + table.parts.reduce((all, part) => all + part.bytes, 0), 0);
        await store.change(row.id, {
          state: 'done',
          at: made.at,
          endedAt: new Date(parts.now()),
          doing: null,
          keyMark: keys.current.mark,
          place: place.words,
          rows,
          bytes,
          files: files.listed.count,
          fileBytes: files.listed.bytes,
          newBytes: made.newBytes + files.newBytes + setup.newBytes,
        });
        await erasures.keep(archive, row);
        await tidy(this.ground, archive, environment);
      }),
    );
    if ((await backupSettings.read(environment)).prove)
      await this.ground.parts.jobs.add(parts.database, parts.directory.installation(), PROOF_JOB, row.id);
  }

  /** Contents never change: one that is stored is stored for good. */
  async #files(environment: Environment, archive: Archive, known: Set<string>, key: BackupKey, tell: (doing: string) => Promise<void>) {
    const { contents } = this.ground.parts;
    const all = await contents.all(environment);
    const listed: ArchivedFile[] = [];
    let [missing, newBytes, bytes, done] = [0, 0, 0, 0];
    const limit = pLimit(FILES_AT_ONCE);
    await limit.map(all, async ({ digest, size, damaged }) => {
      const object = key.nameOf('file', digest);
      if (!known.has(object)) {
        const stored = !damaged && (await storeFile(archive, key, contents.bytes.place(environment.id, digest), object, digest));
        if (!stored) {
          missing++;
          return;
        }
        newBytes += size;
      }
      listed.push([digest, size, object]);
      bytes += size;
      if (++done % 200 === 0) await tell(`Storing the files: ${done} of ${all.length}`);
    });
    listed.sort(([a], [b]) => (a < b ? -1 : 1));
    const lines = await archive.writeLines(
      listed.map((file) => JSON.stringify(file)),
      key,
      known,
    );
    return { listed: { count: listed.length, bytes, missing, parts: lines.parts }, newBytes: newBytes + lines.newBytes };
  }

  async #end(row: BackupRow, state: BackupRow['state'], problem: string): Promise<void> {
    await this.ground.store.change(row.id, {
      state,
      problem: problem.slice(0, 2000),
      doing: null,
      endedAt: new Date(this.ground.parts.now()),
    });
  }

  async #tellFailure(environment: Environment, row: BackupRow, problem: string): Promise<void> {
    await this.ground.parts.notices.tell({
      kind: 'backup',
      environmentId: environment.id,
      once: `backup ${row.id}`,
      title: 'A backup failed',
      body: problem,
      link: `/${environment.app}/${environment.name}/backups`,
    });
  }
}

/** @returns false where the content is not what it should be, or not there */
async function storeFile(archive: Archive, key: BackupKey, path: string, object: string, digest: string): Promise<boolean> {
  const { header, cipher } = key.cipher();
  const sealed = new PassThrough();
  sealed.write(header);
  const measured = new DigestThrough();
  const settled = (work: Promise<unknown>) =>
    work.then(
      () => null,
      (error: NodeJS.ErrnoException) => error,
    );
  const [unread, unwritten] = await Promise.all([
    settled(pipeline(createReadStream(path), measured, cipher, sealed)),
    settled(archive.place.write(archive.objectPath(object), sealed)),
  ]);
  if (unread?.code === 'ENOENT') return false;
  // What is wrong at the place breaks off the reading too: the place knows why.
  if (unwritten ?? unread) throw unwritten ?? unread;
  if (measured.digest() === digest) return true;
  await archive.removeObject(object);
  return false;
}
