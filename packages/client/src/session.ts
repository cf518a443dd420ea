/** The session of the signed-in user: kept over restarts, renewed before it ends, and the same in all tabs. */
import type { User } from '@orchard/contract';
import type { PendingEvent } from './eventQueue.js';
import { Problem } from './problem.js';
import { exclusively, type Storage } from './storage.js';
import type { ReplyTo } from './types.js';
import { settable, type Value } from './value.js';

export type Tokens = ReplyTo<'users.startSession'> & {
  /** By how much the device's clock was behind the service's when they came. */
  skewMs?: number;
};
/** What the library keeps; secrets of devices by their ids. */
type Kept = { tokens: Tokens | null; secrets: Record<string, string>; events: PendingEvent[]; device: string | null };

const RENEW_BEFORE_MS = 30_000;

export class Session {
  #kept: Kept | undefined;
  #renewing: Promise<Kept> | null = null;
  readonly #user = settable<User | null>(null);
  readonly #alone: ReturnType<typeof exclusively>;

  /** @param renew asks for new tokens */
  constructor(
    private readonly storage: Storage,
    name: string,
    private readonly now: () => number,
    private readonly renew: (refreshToken: string) => Promise<Tokens>,
  ) {
    this.#alone = exclusively(name);
    // Another tab signed somebody in or out.
    (globalThis as { addEventListener?: (type: string, heard: (event: { key?: string | null }) => void) => void }).addEventListener?.(
      'storage',
      ({ key }) => {
        if (key === name) void this.read();
      },
    );
  }

  get user(): Value<User | null> {
    return this.#user;
  }

  /** What the storage holds now; another tab may have changed it. */
  async read(): Promise<Kept> {
    const stored = JSON.parse((await this.storage.read()) ?? 'null') as Partial<Tokens & Kept> | null;
    const { secrets = {}, events = [], device = null, ...tokens } = stored ?? {};
    return this.#hold({ tokens: 'refreshToken' in tokens ? (tokens as Tokens) : null, secrets, events, device });
  }

  #hold(kept: Kept): Kept {
    this.#kept = kept;
    const user = kept.tokens?.user ?? null;
    if (JSON.stringify(user) !== JSON.stringify(this.#user.current)) this.#user.set(user);
    return kept;
  }

  async kept(): Promise<Kept> {
    return this.#kept ?? this.read();
  }

  /** Changes some of what is kept, over what the storage holds now. */
  async change(changes: Partial<Kept>): Promise<Kept> {
    const next = this.#hold({ ...(await this.read()), ...changes });
    const { tokens, secrets, events, device } = next;
    const value = {
      ...tokens,
      ...(Object.keys(secrets).length > 0 ? { secrets } : {}),
      ...(events.length > 0 ? { events } : {}),
      ...(device ? { device } : {}),
    };
    await this.storage.write(Object.keys(value).length > 0 ? JSON.stringify(value) : null);
    return next;
  }

  /** Keeps who is signed in now. @returns the user */
  async begin(tokens: Tokens): Promise<User> {
    await this.change({ tokens: this.#dated(tokens) });
    return tokens.user;
  }

  async noteUser(user: User): Promise<User> {
    const { tokens } = await this.kept();
    if (tokens && tokens.user.id === user.id) await this.change({ tokens: { ...tokens, user } });
    return user;
  }

  async keepSecret(device: string, secret: string): Promise<void> {
    const { secrets } = await this.read();
    await this.change({ secrets: { ...secrets, [device]: secret } });
  }

  /** The clock of a device may be years off; the token says when it was made (RFC 7519 section 4.1.6). */
  #dated(tokens: Tokens): Tokens {
    try {
      const { iat } = JSON.parse(atob((tokens.accessToken.split('.')[1] ?? '').replace(/-/g, '+').replace(/_/g, '/'))) as { iat?: number };
      return iat ? { ...tokens, skewMs: iat * 1000 - this.now() } : tokens;
    } catch {
      return tokens;
    }
  }

  #isStale({ accessTokenExpiresAt, skewMs = 0 }: Tokens): boolean {
    return Date.parse(accessTokenExpiresAt) - RENEW_BEFORE_MS < this.now() + skewMs;
  }

  /** Who calls; tokens that are about to end are renewed first. */
  async headers(): Promise<Record<string, string>> {
    let { tokens } = await this.kept();
    if (tokens && this.#isStale(tokens)) tokens = (await this.#renewed()).tokens;
    return tokens ? { authorization: `Bearer ${tokens.accessToken}` } : {};
  }

  /**
   * A refresh token is valid once, so concurrent calls share one renewal. So do tabs, where the browser has locks: the
   * second one finds the new tokens in the storage.
   */
  #renewed(): Promise<Kept> {
    this.#renewing ??= this.#alone(async () => {
      const kept = await this.read();
      const { tokens } = kept;
      if (!tokens || !this.#isStale(tokens)) return kept;
      try {
        return await this.change({ tokens: this.#dated(await this.renew(tokens.refreshToken)) });
      } catch (error) {
        if (!(error instanceof Problem) || error.status !== 401) throw error;
        const meanwhile = await this.read();
        return meanwhile.tokens && meanwhile.tokens.refreshToken !== tokens.refreshToken ? meanwhile : this.change({ tokens: null });
      }
    }).finally(() => {
      this.#renewing = null;
    });
    return this.#renewing;
  }
}
