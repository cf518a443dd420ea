/**
 * People who were erased stay erased, whatever is restored. The list stands apart from what is restored: in the installation's
 * database, and beside the backups for the case that this one is lost too.
 */
import type { Environment } from '../../platform/call.js';
import type { UserRemoval } from '../../platform/ports.js';
import { Archive, type ArchiveOf } from './archive.js';
import type { Parts } from './parts.js';
import type { Places } from './places.js';
import type { BackupKeys } from './sealing.js';
import { type BackupStore, noteErasure } from './store.js';

const LIST = 'erasures';
type Erased = { userId: string; at: string };

export class Erasures {
  constructor(
    private readonly parts: Parts,
    private readonly store: BackupStore,
    private readonly places: Places,
    private readonly keys: BackupKeys,
  ) {}

  /** In the transaction of the removal, where both stand on one server. */
  async note({ on, environment, userId }: UserRemoval): Promise<void> {
    const { database, now } = this.parts;
    await noteErasure(environment.server === null ? on : database, database.name, environment, userId, new Date(now()));
  }

  /** Everybody who was erased by what is known here and beside the backups. */
  async all(archive: Archive, of: ArchiveOf): Promise<Map<string, Date>> {
    const beside = await this.#read(archive);
    const own = await this.store.erasures(of);
    return new Map([...beside.map(({ userId, at }): [string, Date] => [userId, new Date(at)]), ...own]);
  }

  /** Brings the list beside the backups up to date. Under the lease of the environment's backups. */
  async keep(archive: Archive, of: ArchiveOf): Promise<void> {
    const all = await this.all(archive, of);
    if (all.size === 0) return;
    const list: Erased[] = [...all].map(([userId, at]) => ({ userId, at: at.toISOString() }));
    await archive.write(LIST, this.keys.current.encrypt(Buffer.from(JSON.stringify(list))));
    await this.store.erasuresKept(of, [...all.keys()]);
  }

  async #read(archive: Archive): Promise<Erased[]> {
    const sealed = await archive.read(LIST);
    if (!sealed) return [];
    for (const key of this.keys.all) {
      try {
        return JSON.parse(key.decrypt(sealed).toString()) as Erased[];
      } catch {
        // Another key may open it.
      }
    }
    this.parts.log.error({ place: archive.place.words }, 'the list of erasures beside the backups cannot be read by any key at hand');
    return [];
  }

  /** Every minute: what was erased since. */
  async keepNew(): Promise<void> {
    for (const of of await this.store.unkeptErasures()) await this.places.with((place) => this.keep(new Archive(place, of), of));
  }

  /**
   * Erases again whoever is back with a backup.
   * @returns how many
   */
  async repeat(environment: Environment, erased: Iterable<string>): Promise<number> {
    let again = 0;
    for (const userId of erased) if (await this.parts.ports.eraseUser(environment, userId)) again++;
    return again;
  }
}
