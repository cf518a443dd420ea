/** Where the installation keeps its backups: a directory of the settings, or another host that owners name. */
import { Problem, type BackupPlace, type NewBackupPlace } from '@orchard/contract';
import { eq } from 'drizzle-orm';
import { deriveKey, seal, unseal } from '../../platform/access/secrets.js';
import { settings } from '../../platform/access/systemTables.js';
import type { Platform } from '../../platform/platform.js';
import { DirectoryPlace } from './places/directory.js';
import { type Place, PlaceProblem } from './places/place.js';
import { type SftpSecret, SftpPlace, type SftpSettings } from './places/sftp.js';

const NAME = 'backupPlace';
const CONTEXT = 'backup place';
type Stored = SftpSettings & { sealed: string };

export class Places {
  constructor(private readonly platform: Pick<Platform, 'config' | 'database' | 'secretKey'>) {}

  get #key(): Buffer {
    return deriveKey(this.platform.secretKey, 'backup place');
  }

  async #stored(): Promise<Stored | null> {
    const [row] = await this.platform.database.orm.select().from(settings).where(eq(settings.name, NAME));
    return row ? (JSON.parse(row.value) as Stored) : null;
  }

  /** The caller closes it. */
  async open(): Promise<Place> {
    const stored = await this.#stored();
    if (!stored) return new DirectoryPlace(this.platform.config.backupsDirectory);
    const { sealed, ...sftp } = stored;
    return new SftpPlace(sftp, JSON.parse(unseal(this.#key, CONTEXT, sealed).toString()) as SftpSecret);
  }

  /** Opens the place for some work. @throws {Problem} backup-place-unusable */
  async with<T>(work: (place: Place) => Promise<T>): Promise<T> {
    const place = await this.open();
    try {
      return await work(place);
    } catch (error) {
      throw asProblem(error);
    } finally {
      await place.close();
    }
  }

  async read(): Promise<BackupPlace> {
    const stored = await this.#stored();
    if (!stored) return { kind: 'directory', path: this.platform.config.backupsDirectory };
    const { sealed, ...sftp } = stored;
    const { password } = JSON.parse(unseal(this.#key, CONTEXT, sealed).toString()) as SftpSecret;
    return { kind: 'sftp', ...sftp, signsInBy: password === undefined ? 'key' : 'password' };
  }

  /**
   * Stores a place that was tried: something was written there, read again, and removed.
   * @throws {Problem} backup-place-unusable, invalid-input
   */
  async change(wanted: NewBackupPlace): Promise<void> {
    const orm = this.platform.database.orm;
    if (wanted.kind === 'directory') {
      await tryPlace(new DirectoryPlace(this.platform.config.backupsDirectory));
      await orm.delete(settings).where(eq(settings.name, NAME));
      return;
    }
    const { kind: _, password, privateKey, hostKey, ...rest } = wanted;
    if (hostKey === undefined) {
      const shown = await SftpPlace.hostKeyOf(rest).catch((error) => Promise.reject(asProblem(error)));
      throw new Problem('invalid-input', `${rest.host} shows the host key ${shown}. If that is its key, send it as \`hostKey\`.`, {
        fields: [{ path: 'body.hostKey', problem: 'The host key has to be known before anything is sent.', expected: shown }],
      });
    }
    const secret = await this.#secretOf({ password, privateKey }, rest.host);
    const sftp = { ...rest, hostKey };
    await tryPlace(new SftpPlace(sftp, secret));
    const value = JSON.stringify({ ...sftp, sealed: seal(this.#key, CONTEXT, JSON.stringify(secret)) } satisfies Stored);
    await orm.insert(settings).values({ name: NAME, value }).onDuplicateKeyUpdate({ set: { value } });
  }

  /** What was given, or what there is for the same host. */
  async #secretOf({ password, privateKey }: SftpSecret, host: string): Promise<SftpSecret> {
    if (privateKey !== undefined) return { privateKey };
    if (password !== undefined) return { password };
    const stored = await this.#stored();
    if (stored?.host === host) return JSON.parse(unseal(this.#key, CONTEXT, stored.sealed).toString()) as SftpSecret;
    throw new Problem('invalid-input', 'A password or a private key is missing.', {
      fields: [{ path: 'body.privateKey', problem: 'The service has to sign in.', expected: 'a private key in PEM, or `password`' }],
    });
  }
}

const PROBE = 'orchard-was-here';

async function tryPlace(place: Place): Promise<void> {
  try {
    const content = Buffer.from(`${Date.now()}`);
    await place.write(PROBE, content);
    const back = await place.read(PROBE);
    await place.remove(PROBE);
    if (!back.equals(content)) throw new PlaceProblem('refused', `${place.words} does not give back what was written there.`);
  } catch (error) {
    throw asProblem(error);
  } finally {
    await place.close();
  }
}

/** A problem of a place, as callers are told. */
export const asProblem = (error: unknown): unknown =>
  error instanceof PlaceProblem ? new Problem('backup-place-unusable', error.message) : error;
