/**
 * Calls by what made them: the app's version and the device's country. A device's country is looked up when counts are written,
 * for all devices at once, so that no call waits for it.
 */
import { LRUCache } from 'lru-cache';
import type { Ports } from '../../platform/ports.js';
import type { Counted, Counts } from './counts.js';

type Outcome = Pick<Counted, 'client' | 'status' | 'durationUs'>;
type Waiting = Outcome & { at: number; deviceId: string };

const MOST_KNOWN = 20_000;
/** Devices move; a registration anew counts after this time. */
const KNOWN_MS = 10 * 60_000;
/** An app may call before it has registered its device. */
const UNKNOWN_MS = 30_000;
/** Above this many between two writes, the country of further calls is not told. */
const MOST_WAITING = 20_000;

const NO_ROUTE = { method: '', target: '', problem: '' };

export class Callers {
  #waiting: Waiting[] = [];
  readonly #countries = new LRUCache<string, string>({ max: MOST_KNOWN, ttl: KNOWN_MS });

  constructor(
    private readonly minutes: Counts,
    private readonly countriesOf: (ids: readonly string[]) => ReturnType<Ports['countriesOf']>,
  ) {}

  /** Counts a call, without I/O. */
  add(at: number, outcome: Outcome, version: string | null, deviceId: string | null): void {
    this.minutes.add(at, { kind: 'version', route: version ?? '', ...NO_ROUTE, ...outcome });
    const country = deviceId === null || this.#waiting.length >= MOST_WAITING ? '' : this.#countries.get(deviceId);
    if (country === undefined) this.#waiting.push({ at, deviceId: deviceId as string, ...outcome });
    else this.#addCountry(at, outcome, country);
  }

  /** Looks up the countries that are missing and counts their calls. @throws Error when the database is away: they wait on */
  async settle(): Promise<void> {
    if (this.#waiting.length === 0) return;
    const waiting = [...this.#waiting];
    const ids = [...new Set(waiting.map(({ deviceId }) => deviceId))];
    const found = await this.countriesOf(ids);
    this.#waiting = this.#waiting.slice(waiting.length);
    for (const id of ids) this.#countries.set(id, found.get(id) ?? '', { ttl: found.has(id) ? KNOWN_MS : UNKNOWN_MS });
    for (const { at, deviceId, ...outcome } of waiting) this.#addCountry(at, outcome, found.get(deviceId) ?? '');
  }

  #addCountry(at: number, outcome: Outcome, country: string): void {
    this.minutes.add(at, { kind: 'country', route: country, ...NO_ROUTE, ...outcome });
  }
}
