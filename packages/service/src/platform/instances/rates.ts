/**
 * The rate limits: calls a minute by address and by key, sign-ins a minute by address, syncs a minute by key. They hold over all
 * instances: each counts for itself, and tells the others every second what callers have used that are somewhere near a limit.
 */
import { Problem } from '@orchard/contract';
import type { Logger } from 'pino';
import { RateLimiterMemory, type RateLimiterRes } from 'rate-limiter-flexible';
import type { Call } from '../call.js';
import type { Database } from '../database/connection.js';
import { isDatabaseAway } from '../database/errors.js';
import type { Instances } from './instances.js';
import { forgetShares, type RateShare, sharesSince, tellShares } from './store.js';
import type { Platform } from '../platform.js';

const SHARE_MS = 1_000;
/** Callers who have used less than this part of a limit are not told of. */
const NEAR = 0.05;
/** How far back the others' entries are read: one may commit late. */
const LOOK_BACK_MS = 5_000;
const FORGET_MS = 60_000;

/** One limit a minute, and what was used of it here and not told yet. */
class Limit {
  readonly #memory: RateLimiterMemory;
  readonly #untold = new Map<string, number>();

  constructor(
    readonly name: string,
    readonly points: number,
    private readonly what: string,
    private readonly whence: string,
  ) {
    this.#memory = new RateLimiterMemory({ points, duration: 60 });
  }

  /** @throws {Problem} rate-exceeded */
  async consume(who: string): Promise<void> {
    this.#untold.set(who, (this.#untold.get(who) ?? 0) + 1);
    try {
      await this.#memory.consume(who);
    } catch (reached) {
      if (reached instanceof Error) throw reached;
      const retryAfterS = Math.max(1, Math.ceil((reached as RateLimiterRes).msBeforeNext / 1000));
      throw new Problem('rate-exceeded', `More than ${this.points} ${this.what} a minute ${this.whence}. Wait ${retryAfterS} s.`, {
        retryAfterS,
      });
    }
  }

  /** What is to be told of now. */
  async take(): Promise<RateShare[]> {
    const shares: RateShare[] = [];
    for (const [who, points] of this.#untold) {
      const used = (await this.#memory.get(who))?.consumedPoints ?? 0;
      if (used > 0 && used < this.points * NEAR) continue;
      this.#untold.delete(who);
      // Refused calls use nothing up elsewhere.
      if (used > 0) shares.push({ rate: this.name, who: who.slice(0, 80), points: Math.min(points, this.points) });
    }
    return shares;
  }

  /** With nobody to tell. */
  forget(): void {
    this.#untold.clear();
  }

  async add(who: string, points: number): Promise<void> {
    await this.#memory.penalty(who, points);
  }
}

type Ground = { database: Database; instance: string; instances: Pick<Instances, 'others'>; now: () => number; log: Logger };

export class Rates {
  readonly #address: Limit;
  readonly #key: Limit;
  readonly #signIn: Limit;
  readonly #sync: Limit;
  readonly #heard = new Set<number>();
  #timer: NodeJS.Timeout | null = null;
  #sharing = false;

  constructor(rates: Platform['config']['rates']) {
    this.#address = new Limit('address', rates.perAddress, 'calls', 'from your address');
    this.#key = new Limit('key', rates.perKey, 'calls', 'with this key');
    this.#signIn = new Limit('sign-in', rates.signInsPerAddress, 'sign-ins', 'from your address');
    this.#sync = new Limit('sync', rates.syncsPerKey, 'syncs', 'with this key');
  }

  get #all(): Limit[] {
    return [this.#address, this.#key, this.#signIn, this.#sync];
  }

  /** Before any lookup; a refusal counts in the environment of a cached key. */
  async limitAddress(call: Call, parts: Pick<Platform, 'directory'>): Promise<void> {
    const seen = parts.directory.remembered(call.headers['orchard-key']);
    if (seen) call.environment = seen.environment;
    await this.#address.consume(call.request.ip ?? 'unknown');
  }

  /** After the key is resolved, so that a refused sign-in counts in its environment. */
  async limitSignIns(call: Call): Promise<void> {
    if (call.operation.rate === 'sign-in') await this.#signIn.consume(call.request.ip ?? 'unknown');
  }

  async limitKey(call: Call): Promise<void> {
    if (!call.holder) return;
    await (call.operation.rate === 'sync' ? this.#sync : this.#key).consume(call.holder.key.id);
  }

  /** Begins to tell the other instances, and to hear of them. */
  start(ground: Ground): void {
    this.#timer = setInterval(() => void this.#share(ground), SHARE_MS).unref();
  }

  stop(): void {
    if (this.#timer) clearInterval(this.#timer);
    this.#timer = null;
  }

  async #share({ database, instance, instances, now, log }: Ground): Promise<void> {
    if (this.#sharing) return;
    if (instances.others === 0) {
      for (const limit of this.#all) limit.forget();
      return;
    }
    this.#sharing = true;
    try {
      const shares = (await Promise.all(this.#all.map((limit) => limit.take()))).flat();
      await tellShares(database, instance, shares, new Date(now()));
      await this.#hear(await sharesSince(database, instance, new Date(now() - LOOK_BACK_MS)));
      if (Math.random() < SHARE_MS / FORGET_MS) await forgetShares(database, new Date(now() - FORGET_MS));
    } catch (error) {
      if (!isDatabaseAway(error)) log.warn({ err: error }, 'rates could not be shared with the other instances');
    } finally {
      this.#sharing = false;
    }
  }

  async #hear(shares: readonly (RateShare & { entry: number })[]): Promise<void> {
    const present = new Set(shares.map(({ entry }) => entry));
    for (const entry of this.#heard) if (!present.has(entry)) this.#heard.delete(entry);
    for (const { entry, rate, who, points } of shares) {
      if (this.#heard.has(entry)) continue;
      this.#heard.add(entry);
      await this.#all.find(({ name }) => name === rate)?.add(who, points);
    }
  }
}
