/**
 * Proves a backup by restoring it: into a database that nobody sees, whose tables are then read again and compared with what
 * was backed up, row counts and digests. Contents of files are read and compared with their digests.
 */
import { type ArchiveManifest, Problem } from '@orchard/contract';
import { newestMigration } from '../../platform/database/migrate.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import type { Job, JobKind, Lease } from '../../platform/jobs/queue.js';
import { Archive, type ArchivedFile, DamagedObject, HEADER_BYTES } from './archive.js';
import { createHash } from 'node:crypto';
import { loadInto, type Opened } from './loading.js';
import { type Ground, HandedOver, leaseOf } from './ground.js';
import { asProblem } from './places.js';
import type { BackupKey } from './sealing.js';
import type { BackupRow } from './store.js';
import { readTables } from './structureDdl.js';
import { TableReader } from './threads/tableReader.js';

/** What is wrong with a backup. */
class NotWhole extends Error {}

export class Proving {
  constructor(private readonly ground: Ground) {}

  readonly job: JobKind = { work: (job, lease) => this.#work(job, lease), atOnce: 1 };

  async #work(job: Job, lease: Lease): Promise<Date | null> {
    const { parts, store } = this.ground;
    const row = await store.find(job.subject);
    if (row?.state !== 'done') return null;
    const began = parts.now();
    const end = (isWhole: boolean, proof: string) =>
      store.change(row.id, {
        provedAt: new Date(parts.now()),
        isWhole,
        proof: proof.slice(0, 2000),
        proofMs: parts.now() - began,
        doing: null,
      });
    try {
      await end(true, await this.prove(row, lease));
    } catch (error) {
      if (error instanceof HandedOver) return new Date(parts.now());
      const problem = asProblem(error);
      const text =
        problem instanceof NotWhole ? problem.message : problem instanceof Problem && problem.problem !== 'busy' ? problem.detail : null;
      if (text === null) throw error;
      await end(false, text);
      await this.#tell(row, text);
    }
    return null;
  }

  /** @returns what was compared, in words @throws NotWhole, {Problem} backup-unreadable, backup-key-missing */
  async prove(row: BackupRow, lease: Lease): Promise<string> {
    const { parts, keys, places, store } = this.ground;
    return parts.servers.leases.with(leaseOf(row), () =>
      places.with(async (place) => {
        const archive = new Archive(place, row);
        const opened = { archive, ...(await archive.open(row.id, keys)) };
        demandReadable(opened.manifest);
        const scratch = `proof_${row.id.slice(-12)}`;
        const db = parts.servers.databaseOf(scratch, null);
        const tell = async (doing: string) => {
          if (lease.stopping() || !(await lease.renew())) throw new HandedOver();
          await store.change(row.id, { doing: `Proof: ${doing}` });
        };
        try {
          await loadInto(opened, db, true, tell);
          await compareTables(opened, db, tell);
          const files = await compareFiles(opened, tell);
          const { tables } = opened.manifest;
          const rows = tables.reduce((sum, table) => sum + table.rows, 0);
          return `${rows.toLocaleString('en')} rows in ${tables.length} tables and ${files.toLocaleString('en')} files are as they were.`;
        } catch (error) {
          // What is damaged is stored anew with the next backup.
          if (error instanceof DamagedFile || error instanceof DamagedObject) await archive.removeObject(error.object);
          throw error;
        } finally {
          await db.drop();
          parts.servers.forget(scratch);
        }
      }),
    );
  }

  async #tell(row: BackupRow, text: string): Promise<void> {
    const environment = await this.ground.parts.directory.environment(row.app, row.environment).catch(() => null);
    await this.ground.parts.notices.tell({
      kind: 'backup',
      environmentId: environment?.id ?? null,
      once: `proof ${row.id}`,
      title: 'A backup is not whole',
      body: text,
      link: `/${row.app}/${row.environment}/backups`,
    });
  }
}

class DamagedFile extends NotWhole {
  constructor(
    readonly object: string,
    digest: string,
  ) {
    super(`The file ${digest} is damaged or missing in the backup. It is stored anew with the next one.`);
  }
}

/** @throws {Problem} backup-unreadable, of one that a newer version made */
export function demandReadable({ id, migration }: Pick<ArchiveManifest, 'id' | 'migration'>): void {
  if (migration > newestMigration())
    throw new Problem(
      'backup-unreadable',
      `Backup ${id} was made by a newer version: its tables are of ${new Date(migration).toISOString().slice(0, 10)}, this version knows them as of ${new Date(newestMigration()).toISOString().slice(0, 10)}. Update the service, then restore it.`,
    );
}

async function compareTables({ manifest, key }: Opened, db: EnvironmentDatabase, tell: (doing: string) => Promise<void>): Promise<void> {
  const reader = new TableReader(db.server.url, key, 'digests');
  try {
    await reader.begin();
    const tables = new Map((await readTables(reader, db.name)).map((table) => [table.name, table]));
    for (const wanted of manifest.tables) {
      await tell(`comparing ${wanted.name}`);
      const table = tables.get(wanted.name);
      if (!table) throw new NotWhole(`The table ${wanted.name} did not come back.`);
      // The columns of the archive: those that only exist for an index are worked out anew.
      const reading = reader.read({ ...table, columns: wanted.columns });
      const digests: string[] = [];
      let next = await reading.next();
      for (; !next.done; next = await reading.next()) digests.push(next.value.part.sha256);
      if (next.value !== wanted.rows)
        throw new NotWhole(`The table ${wanted.name} came back with ${next.value} rows; it had ${wanted.rows}.`);
      if (digests.some((digest, i) => digest !== wanted.parts[i]?.sha256))
        throw new NotWhole(`The table ${wanted.name} came back with other values than it had.`);
    }
  } finally {
    await reader.close();
  }
}

async function compareFiles({ archive, manifest, key }: Opened, tell: (doing: string) => Promise<void>): Promise<number> {
  let compared = 0;
  for await (const line of archive.lines(manifest.files.parts, key)) {
    const [digest, , object] = JSON.parse(line) as ArchivedFile;
    if ((await digestOf(archive, object, key)) !== digest) throw new DamagedFile(object, digest);
    if (++compared % 200 === 0) await tell(`comparing files: ${compared} of ${manifest.files.count}`);
  }
  return compared;
}

async function digestOf(archive: Archive, object: string, key: BackupKey): Promise<string | null> {
  const hash = createHash('sha256');
  try {
    for await (const chunk of openFile(archive, object, key)) hash.update(chunk);
  } catch {
    return null;
  }
  return hash.digest('hex');
}

/** The content of a file, as it is decrypted. */
export async function* openFile(archive: Archive, object: string, key: BackupKey): AsyncGenerator<Buffer> {
  let head = Buffer.alloc(0);
  let decipher: ReturnType<BackupKey['decipher']> | null = null;
  for await (const chunk of (await archive.place.stream(archive.objectPath(object))) as AsyncIterable<Buffer>) {
    if (decipher) {
      yield decipher.update(chunk);
      continue;
    }
    head = Buffer.concat([head, chunk]);
    if (head.length < HEADER_BYTES) continue;
    decipher = key.decipher(head);
    yield decipher.update(head.subarray(HEADER_BYTES));
  }
  if (!decipher) throw new Error('the object is empty');
  yield decipher.final();
}
