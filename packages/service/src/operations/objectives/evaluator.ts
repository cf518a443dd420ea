/**
 * Evaluates every environment each ten seconds. One instance does it, under a lease; when it dies, another takes over within
 * the lease's ten seconds and the five in which it looks.
 */
import { setTimeout as sleep } from 'node:timers/promises';
import { Problem } from '@orchard/contract';
import { dampingOf, type Settling, settle, settled } from '@orchard/core';
import pLimit from 'p-limit';
import type { Environment } from '../../platform/call.js';
import { isDatabaseAway, isGone } from '../../platform/database/errors.js';
import type { HeldLease } from '../../platform/database/leases.js';
import { INSTALLATION } from '../../platform/database/servers.js';
import type { Platform } from '../../platform/platform.js';
import { guarded } from '../../platform/upkeep.js';
import type { Change, Evaluated, Findings } from './findings.js';
import { checkInstallation, conditionOfChecks } from './installationChecks.js';
import { addChange, readConditions, removeConditions, saveConditions, type StoredCondition } from './store.js';
import { EnvironmentWatch } from './watch.js';

const LOOK_MS = 5_000;
const AT_ONCE = 8;

/** Told of each change of condition, after it is stored; null for the installation. */
export type ChangeListener = (environment: Environment | null, change: Change) => Promise<void>;
/** Told of what each evaluation found. */
export type FindingsListener = (environment: Environment, found: Evaluated) => Promise<void>;

export class Evaluator {
  readonly #watches = new Map<string, EnvironmentWatch>();
  #installation: Settling | null = null;
  /** When the database was first found away, and not seen since. */
  #awaySince: number | null = null;
  #stopping = new AbortController();
  #running: Promise<void> = Promise.resolve();

  readonly #changed: ChangeListener[] = [];
  readonly #found: FindingsListener[] = [];

  readonly #damping: ReturnType<typeof dampingOf>;

  constructor(private readonly parts: Platform) {
    this.#damping = dampingOf(parts.config.evaluateMs);
  }

  onChange(listener: ChangeListener): void {
    this.#changed.push(listener);
  }

  onFound(listener: FindingsListener): void {
    this.#found.push(listener);
  }

  async #tell(environment: Environment | null, change: Change): Promise<void> {
    for (const listener of this.#changed)
      await guarded(this.parts, 'tell of a changed condition', { environment: environment?.id }, () => listener(environment, change));
  }

  start(): void {
    this.#running = this.#run();
  }

  async stop(): Promise<void> {
    this.#stopping.abort();
    await this.#running;
  }

  async #run(): Promise<void> {
    const { signal } = this.#stopping;
    while (!signal.aborted) {
      await this.parts.servers.leases
        .with('condition', (lease) => this.#hold(lease), { waitS: 0 })
        .catch((error) => {
          // Another instance evaluates.
          if (error instanceof Problem || isDatabaseAway(error)) return;
          this.parts.log.error({ err: error }, 'the condition cannot be evaluated');
        });
      await pause(LOOK_MS, signal);
    }
  }

  async #hold(lease: HeldLease): Promise<void> {
    const { signal } = this.#stopping;
    this.#watches.clear();
    this.#installation = null;
    while (!signal.aborted && lease.holds()) {
      const began = performance.now();
      await guarded(this.parts, 'evaluate the condition', {}, () => this.evaluate());
      await pause(Math.max(500, this.parts.config.evaluateMs - (performance.now() - began)), signal);
    }
  }

  /** One evaluation of all environments. */
  async evaluate(): Promise<void> {
    const { directory, database, clock, log, metrics } = this.parts;
    const began = performance.now();
    try {
      // In whole steps, so that two evaluations in a row are two steps apart whatever the timer does.
      const now = Math.round(clock.read() / 1_000) * 1_000;
      const environments = await directory.allEnvironments();
      const unknown = environments.filter(({ id }) => !this.#watches.has(id)).map(({ id }) => id);
      const stored = await readConditions(database, [...unknown, ...(this.#installation ? [] : [INSTALLATION])]);
      const limit = pLimit(AT_ONCE);
      const found = (await limit.map(environments, (one) => this.#evaluateOne(one, stored.get(one.id), now))).flat();
      await this.#keepKnown(environments);
      found.push(await this.#evaluateInstallation(stored.get(INSTALLATION), now));
      await saveConditions(database, found, new Date(clock.read()));
      metrics.setEvaluation((performance.now() - began) / 1000);
    } catch (error) {
      if (!isDatabaseAway(error)) throw error;
      this.#awaySince ??= clock.read();
      log.warn('the condition cannot be evaluated: the database does not answer');
    }
  }

  /** @returns nothing for an environment that is being deleted */
  async #evaluateOne(environment: Environment, stored: StoredCondition | undefined, now: number): Promise<Evaluated[]> {
    let watch = this.#watches.get(environment.id);
    if (!watch) this.#watches.set(environment.id, (watch = new EnvironmentWatch(environment, settlingOf(stored), now, this.#damping)));
    try {
      const { found, change } = await watch.evaluate(now);
      if (change) {
        await addChange(environment, change);
        await this.#tell(environment, change);
      }
      for (const listener of this.#found)
        await guarded(this.parts, 'tell of findings', { environment: environment.id }, () => listener(environment, found));
      return [found];
    } catch (error) {
      this.#watches.delete(environment.id);
      if (isGone(error)) return [];
      if (isDatabaseAway(error)) return [unreachable(environment, stored, now)];
      throw error;
    }
  }

  async #evaluateInstallation(stored: StoredCondition | undefined, now: number): Promise<Evaluated> {
    const checks = await checkInstallation(this.parts);
    const before = this.#installation ?? settlingOf(stored) ?? settled('thriving', now);
    const away = this.#awaySince;
    this.#awaySince = null;
    // Nothing could be stored while the database was away; now it can be told.
    if (away !== null) {
      const text = `The database did not answer for ${Math.round((now - away) / 1000)} s.`;
      await addChange(this.parts.directory.installation(), { at: away, condition: 'failing', objective: 'database', value: null, text });
      await addChange(this.parts.directory.installation(), { at: now, condition: 'thriving', objective: null, value: null, text: null });
    }
    this.#installation = settle(before, conditionOfChecks(checks), now, this.#damping);
    const findings: Findings = { version: 0, objectives: [], recent: [], checks };
    if (this.#installation.condition !== before.condition) {
      const { condition, since } = this.#installation;
      const worst = checks.find((one) => one.condition === condition);
      const change = { at: since, condition, objective: worst?.check ?? null, value: null, text: worst?.text ?? null };
      await addChange(this.parts.directory.installation(), change);
      await this.#tell(null, change);
    }
    return { environmentId: INSTALLATION, settling: this.#installation, findings };
  }

  /** Forgets environments that are gone. */
  async #keepKnown(environments: readonly Environment[]): Promise<void> {
    const ids = new Set(environments.map(({ id }) => id));
    const gone = [...this.#watches.keys()].filter((id) => !ids.has(id));
    for (const id of gone) this.#watches.delete(id);
    if (gone.length > 0) await removeConditions(this.parts.database, new Set([...ids, INSTALLATION]));
  }
}

const pause = (ms: number, signal: AbortSignal): Promise<unknown> => sleep(ms, undefined, { signal }).catch(() => undefined);

const settlingOf = (stored: StoredCondition | undefined): Settling | null =>
  stored ? { condition: stored.condition, since: stored.since.getTime(), ...stored.settling } : null;

/** The server of an environment's database is away while that of the installation is not. */
function unreachable(environment: Environment, stored: StoredCondition | undefined, now: number): Evaluated {
  const before = settlingOf(stored);
  const settling = before?.condition === 'failing' ? before : settled('failing', now);
  return { environmentId: environment.id, settling, findings: { version: 0, objectives: [], recent: [] } };
}
