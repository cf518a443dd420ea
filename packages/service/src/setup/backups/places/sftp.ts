/** Backups on another host, by SFTP (draft-ietf-secsh-filexfer-02) over SSH. */
import { createHash } from 'node:crypto';
import type { EventEmitter } from 'node:events';
import { dirname, posix } from 'node:path';
import { PassThrough, type Readable } from 'node:stream';
import Client from 'ssh2-sftp-client';
import { type Place, PlaceProblem } from './place.js';

export type SftpSettings = {
  host: string;
  port: number;
  user: string;
  /** Absolute, or relative to where the host puts the user. */
  path: string;
  /** SHA-256 of the host's key as `ssh-keygen -l` prints it, `SHA256:…`. */
  hostKey: string;
};
export type SftpSecret = { password?: string | undefined; privateKey?: string | undefined };

const CONNECT_MS = 10_000;
/** A connection without an answer for this long is given up. */
const ALIVE_MS = 10_000;
const ALIVE_TRIES = 3;

/** RFC 4716 section 4 in the form of OpenSSH: base64 without padding. */
export const fingerprintOf = (key: Buffer): string => `SHA256:${createHash('sha256').update(key).digest('base64').replace(/=+$/, '')}`;

/** Operations say themselves when the connection is lost; the package would print it besides. */
function newClient(closed: () => void = () => undefined): Client {
  const client = new Client('backups', { error: () => undefined, end: () => undefined, close: closed });
  // Each operation in flight listens for the end of the connection.
  (client as unknown as { client: EventEmitter }).client.setMaxListeners(0);
  return client;
}

export class SftpPlace implements Place {
  readonly words: string;
  #client: Promise<Client> | null = null;
  readonly #made = new Set<string>();
  #written = 0;

  constructor(
    private readonly settings: SftpSettings,
    private readonly secret: SftpSecret,
  ) {
    const { user, host, port, path } = settings;
    this.words = `sftp://${user}@${host}:${port}/${path.replace(/^\//, '')}`;
  }

  /** The fingerprint of the key that a host shows, whichever it is. */
  static async hostKeyOf({ host, port }: Pick<SftpSettings, 'host' | 'port'>): Promise<string> {
    const client = newClient();
    let seen = '';
    await client
      .connect({
        host,
        port,
        username: 'nobody',
        readyTimeout: CONNECT_MS,
        hostVerifier: (key: Buffer) => {
          seen = fingerprintOf(key);
          return false;
        },
      })
      .catch(() => undefined);
    await client.end().catch(() => undefined);
    if (!seen) throw new PlaceProblem('away', `${host}:${port} does not answer as an SSH server. Check host and port.`);
    return seen;
  }

  async #connected(): Promise<Client> {
    this.#client ??= this.#connect().catch((error) => {
      this.#client = null;
      throw error;
    });
    return this.#client;
  }

  async #connect(): Promise<Client> {
    const { host, port, user, hostKey } = this.settings;
    const client = newClient(() => {
      this.#client = null;
    });
    let shown = '';
    try {
      await client.connect({
        host,
        port,
        username: user,
        ...this.secret,
        readyTimeout: CONNECT_MS,
        keepaliveInterval: ALIVE_MS,
        keepaliveCountMax: ALIVE_TRIES,
        hostVerifier: (key: Buffer) => (shown = fingerprintOf(key)) === hostKey,
      } as Parameters<Client['connect']>[0]);
    } catch (error) {
      await client.end().catch(() => undefined);
      if (shown && shown !== hostKey)
        throw new PlaceProblem(
          'refused',
          `${host}:${port} shows another host key than the one that was set: ${shown}. If the host was set up anew, set that one; if not, somebody may be in between.`,
        );
      throw this.#problem(error);
    }
    return client;
  }

  #at(path: string): string {
    return posix.join(this.settings.path || '.', path);
  }

  async #with<T>(work: (client: Client) => Promise<T>): Promise<T> {
    try {
      return await work(await this.#connected());
    } catch (error) {
      throw this.#problem(error);
    }
  }

  list(folder: string): Promise<string[]> {
    return this.#with(async (client) => {
      try {
        return (await client.list(this.#at(folder))).map(({ name }) => name);
      } catch (error) {
        if (isMissing(error)) return [];
        throw error;
      }
    });
  }

  read(path: string): Promise<Buffer> {
    return this.#with(async (client) => (await client.get(this.#at(path))) as Buffer);
  }

  async stream(path: string): Promise<Readable> {
    const through = new PassThrough();
    const client = await this.#with(async (client) => client);
    client.get(this.#at(path), through).catch((error) => through.destroy(this.#problem(error) as Error));
    return through;
  }

  /** Beside its place first; the host renames it over what is there (`posix-rename@openssh.com`). */
  write(path: string, content: Buffer | Readable): Promise<void> {
    return this.#with(async (client) => {
      const whole = this.#at(path);
      const folder = dirname(whole);
      if (!this.#made.has(folder)) {
        await client.mkdir(folder, true).catch((error) => {
          if (!/exists/i.test(String(error))) throw error;
        });
        this.#made.add(folder);
      }
      const beside = `${whole}.${process.pid}-${++this.#written}.part`;
      try {
        await client.put(content, beside);
        await client.posixRename(beside, whole);
      } catch (error) {
        await client.delete(beside, true).catch(() => undefined);
        throw error;
      }
    });
  }

  size(path: string): Promise<number | null> {
    return this.#with(async (client) => {
      try {
        return (await client.stat(this.#at(path))).size;
      } catch (error) {
        if (isMissing(error)) return null;
        throw error;
      }
    });
  }

  remove(path: string): Promise<void> {
    return this.#with(async (client) => {
      try {
        await client.delete(this.#at(path), true);
      } catch {
        await client.rmdir(this.#at(path), false).catch(() => undefined);
      }
    });
  }

  async close(): Promise<void> {
    const client = await this.#client?.catch(() => null);
    this.#client = null;
    await client?.end().catch(() => undefined);
  }

  #problem(error: unknown): unknown {
    if (error instanceof PlaceProblem) return error;
    const { message = '', code = '' } = error as { message?: string; code?: string | number };
    const { host, port, user } = this.settings;
    if (isMissing(error)) return new PlaceProblem('missing', `A file of the backup is missing at ${this.words}.`);
    if (/permission denied/i.test(message))
      return new PlaceProblem('refused', `${user} may not write at ${this.words}. Give the user the right to, or choose another path.`);
    if (/authentication methods failed/i.test(message))
      return new PlaceProblem('refused', `${host}:${port} refuses ${user}: the password or key is not the right one.`);
    if (/no space|quota|write failed|_put: .*Failure/i.test(message))
      return new PlaceProblem(
        'full',
        `${this.words} took no more: there is no room left, or a limit is reached. Make room there, or choose another place.`,
      );
    return new PlaceProblem(
      'away',
      `${host}:${port} cannot be reached by SFTP (${code || message.slice(0, 200)}). Check host, port and firewall.`,
    );
  }
}

/** SSH_FX_NO_SUCH_FILE. */
const isMissing = (error: unknown): boolean => {
  const { code, message = '' } = error as { code?: string | number; message?: string };
  return code === 2 || code === 'ENOENT' || code === 'ERR_BAD_PATH' || /no such file/i.test(message);
};
