/**
 * The archive of an environment at a place: the manifests of its backups, and the objects that they share.
 *
 *     <app>/<environment>/<backup>/manifest.json
 *     <app>/<environment>/objects/<two digits>/<name>
 */
import { gunzipSync, gzipSync } from 'node:zlib';
import { ARCHIVE_FORMAT, type ArchiveManifest, type ArchivePart, archiveManifest, Problem } from '@orchard/contract';
import { type Place, PlaceProblem } from './places/place.js';
import { type BackupKey, type BackupKeys, HEADER_BYTES, sha256 } from './sealing.js';

const MANIFEST = 'manifest.json';
const OBJECTS = 'objects';
/** Lines of a list are put together up to this size. */
const PART_CHARACTERS = 4_000_000;

export type ArchiveOf = { app: string; environment: string };

export class Archive {
  readonly #at: string;

  constructor(
    readonly place: Place,
    { app, environment }: ArchiveOf,
  ) {
    this.#at = `${app}/${environment}`;
  }

  /** Everything that a place holds: which environments, whether they are here or not. */
  static async environments(place: Place): Promise<ArchiveOf[]> {
    const found: ArchiveOf[] = [];
    for (const app of await place.list(''))
      if (/^[a-z][a-z0-9-]*$/.test(app))
        for (const environment of await place.list(app)) if (/^[a-z][a-z0-9-]*$/.test(environment)) found.push({ app, environment });
    return found;
  }

  /** Ids of the backups that are whole: their manifest is written last. */
  async backups(): Promise<string[]> {
    const names = (await this.place.list(this.#at)).filter((name) => /^[0-9a-f-]{36}$/.test(name));
    const found = await Promise.all(
      names.map(async (id) => ((await this.place.size(`${this.#at}/${id}/${MANIFEST}`)) === null ? [] : [id])),
    );
    return found.flat().sort();
  }

  /** The manifest as it stands there. @throws {Problem} backup-unreadable, not-found */
  async manifest(id: string): Promise<ArchiveManifest> {
    const text = await this.place.read(`${this.#at}/${id}/${MANIFEST}`).catch((error) => {
      if (error instanceof PlaceProblem && error.kind === 'missing')
        throw new Problem('not-found', `There is no backup ${id} in ${this.place.words}.`);
      throw error;
    });
    const damaged = new Problem(
      'backup-unreadable',
      `The manifest of backup ${id} is damaged: it was cut short or changed. Use another backup.`,
    );
    let read: unknown;
    try {
      read = JSON.parse(text.toString());
    } catch {
      throw damaged;
    }
    const { archive } = (read ?? {}) as { archive?: unknown };
    if (typeof archive === 'number' && archive > ARCHIVE_FORMAT)
      throw new Problem(
        'backup-unreadable',
        `Backup ${id} has format ${archive}; this version reads up to ${ARCHIVE_FORMAT}. Update the service, then restore it.`,
      );
    const checked = archiveManifest.safeParse(read);
    if (!checked.success) throw damaged;
    return checked.data;
  }

  /** The manifest and its key. @throws {Problem} backup-key-missing, backup-unreadable */
  async open(id: string, keys: BackupKeys): Promise<{ manifest: ArchiveManifest; key: BackupKey }> {
    const manifest = await this.manifest(id);
    const key = keys.of(manifest.key);
    if (!key) throw keyMissing(manifest.key, keys);
    if (!key.isSigned(manifest))
      throw new Problem('backup-unreadable', `The manifest of backup ${id} was changed after it was written. Use another backup.`);
    return { manifest, key };
  }

  async writeManifest(manifest: ArchiveManifest): Promise<void> {
    await this.place.write(`${this.#at}/${manifest.id}/${MANIFEST}`, Buffer.from(`${JSON.stringify(manifest)}\n`));
  }

  objectPath(name: string): string {
    return `${this.#at}/${OBJECTS}/${name.slice(0, 2)}/${name}`;
  }

  async writeObject(name: string, content: Buffer): Promise<void> {
    await this.place.write(this.objectPath(name), content);
  }

  /** @throws {Problem} backup-unreadable where it is missing */
  async readObject(name: string): Promise<Buffer> {
    try {
      return await this.place.read(this.objectPath(name));
    } catch (error) {
      if (error instanceof PlaceProblem && error.kind === 'missing')
        throw new Problem(
          'backup-unreadable',
          `A part of the backup is missing: ${this.objectPath(name)} in ${this.place.words}. Use another backup.`,
        );
      throw error;
    }
  }

  /** Stores lines as one or more parts, those that are not there yet. */
  async writeLines(lines: Iterable<string>, key: BackupKey, known: Set<string>): Promise<{ parts: ArchivePart[]; newBytes: number }> {
    const parts: ArchivePart[] = [];
    let [some, rows, newBytes]: [string, number, number] = ['', 0, 0];
    const keep = async () => {
      const content = Buffer.from(some);
      const digest = sha256(content);
      const object = key.nameOf('lines', digest);
      parts.push({ object, rows, bytes: content.length, sha256: digest });
      if (!known.has(object)) {
        const packed = key.encrypt(gzipSync(content));
        await this.writeObject(object, packed);
        known.add(object);
        newBytes += packed.length;
      }
      [some, rows] = ['', 0];
    };
    for (const line of lines) {
      some += `${line}\n`;
      rows++;
      if (some.length > PART_CHARACTERS) await keep();
    }
    if (rows > 0 || parts.length === 0) await keep();
    return { parts, newBytes };
  }

  /** @throws {Problem} backup-unreadable */
  async *lines(parts: readonly ArchivePart[], key: BackupKey): AsyncGenerator<string> {
    for (const part of parts) {
      const sealed = await this.readObject(part.object);
      let content: Buffer;
      try {
        content = gunzipSync(key.decrypt(sealed));
      } catch {
        throw new DamagedObject(this, part.object);
      }
      if (sha256(content) !== part.sha256) throw new DamagedObject(this, part.object);
      for (const line of content.toString().split('\n')) if (line) yield line;
    }
  }

  /** Names of all objects. */
  async objects(): Promise<string[]> {
    const folders = (await this.place.list(`${this.#at}/${OBJECTS}`)).filter((name) => /^[0-9a-f]{2}$/.test(name));
    const names = await Promise.all(folders.map((folder) => this.place.list(`${this.#at}/${OBJECTS}/${folder}`)));
    return names.flat();
  }

  async removeObject(name: string): Promise<void> {
    await this.place.remove(this.objectPath(name));
  }

  /** First the manifest: without it there is no backup. */
  async removeBackup(id: string): Promise<void> {
    await this.place.remove(`${this.#at}/${id}/${MANIFEST}`);
    await this.place.remove(`${this.#at}/${id}`);
  }

  async read(name: string): Promise<Buffer | null> {
    return this.place.read(`${this.#at}/${name}`).catch((error) => {
      if (error instanceof PlaceProblem && error.kind === 'missing') return null;
      throw error;
    });
  }

  async write(name: string, content: Buffer): Promise<void> {
    await this.place.write(`${this.#at}/${name}`, content);
  }
}

export const keyMissing = (mark: string, keys: BackupKeys): Problem =>
  new Problem(
    'backup-key-missing',
    `The backup was made with the key ${mark}; the key of this service is ${keys.current.mark} (${keys.whereabouts}). Add the former key to ORCHARD_BACKUP_KEY, after the present one, and start again.`,
  );

/** An object is not what was written. */
export class DamagedObject extends Problem {
  constructor(
    archive: Archive,
    readonly object: string,
  ) {
    super(
      'backup-unreadable',
      `A part of the backup is damaged: ${archive.objectPath(object)} in ${archive.place.words} is not what was written. Use another backup.`,
    );
  }
}

/** Every object that a backup consists of, those of its files too. */
export async function objectsOf(archive: Archive, manifest: ArchiveManifest, key: BackupKey): Promise<string[]> {
  const names = partsOf(manifest).map(({ object }) => object);
  for await (const line of archive.lines(manifest.files.parts, key)) names.push((JSON.parse(line) as ArchivedFile)[2]);
  return names;
}

/** SHA-256 of the content, its bytes, its object. */
export type ArchivedFile = [digest: string, bytes: number, object: string];

const partsOf = (manifest: ArchiveManifest): ArchivePart[] => [
  ...manifest.tables.flatMap(({ parts }) => parts),
  manifest.structure,
  manifest.setup,
  ...manifest.files.parts,
];

export { HEADER_BYTES };
