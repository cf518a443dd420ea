/**
 * Moves an environment to another installation while it is in use: an archive of it goes there, then rows that changed since,
 * and the contents of its files; then writes are held until both agree that it lives there. From then on calls are passed on.
 */
import { setTimeout as sleep } from 'node:timers/promises';
import { ARCHIVE_FORMAT, type ArchiveManifest, Problem } from '@orchard/contract';
import pLimit from 'p-limit';
import { REMEMBER_MS } from '../../platform/access/directory.js';
import { newestMigration } from '../../platform/database/migrate.js';
import { archiveKey } from '../arrivals/archiveKey.js';
import type { TableChange } from '../arrivals/rowWriterStore.js';
import { Archive } from '../backups/archive.js';
import { archiveTables } from '../backups/archiving.js';
import { readKept } from '../backups/installationRows.js';
import { CIPHER } from '../backups/sealing.js';
import type { ReadableTable } from '../backups/structureDdl.js';
import { capture, closeForGood, closeGate, forgetChanges, openGate, release, someChanges } from './captureDdl.js';
import { countedTables } from './copying.js';
import {
  AGAIN_MS,
  type Course,
  FEW,
  HOLD_MS,
  HOLD_TRIES,
  MOST_STARTS,
  NotYet,
  noteTriggers,
  PATIENCE_MS,
  SOME,
  withSchemaHeld,
} from './course.js';
import { markMoving, noteMovedTo } from './environmentRows.js';
import type { OtherInstallation } from './otherInstallation.js';
import type { Parts } from './parts.js';
import { RowReader } from './rowReaderStore.js';
import { shapeOf, shapesOf } from './shapes.js';
import type { MoveStore } from './store.js';

/** How often it is asked how far the loading is, and whether it lives there. */
const ASK_MS = 300;
const FILES_AT_ONCE = 4;
/** Changes go in one call up to this many characters or bytes. */
const CALL_SIZE = 4_000_000;

type Away = Course & { other: OtherInstallation; ticket: string };

export class Leaving {
  constructor(
    private readonly parts: Parts,
    private readonly store: MoveStore,
  ) {}

  /** Until it lives there. @throws {Problem} and whatever else undoes it */
  async leave(course: Away): Promise<void> {
    const { environment, row, other, from } = course;
    if (row.state === 'switching') return this.#settle(course);
    await course.tell('Preparing');
    await markMoving(this.parts, environment, row.id);
    const marked = Date.now();
    await other.announce({ app: environment.app, environment: environment.name, id: environment.id, migration: newestMigration() });
    // Of an earlier attempt that was killed.
    await release(from);
    const sent = new Set<string>();
    for (let start = 1; ; start++) {
      const watched = await capture(from, environment.id);
      // They are written there once the tables are made.
      course.triggers.areOld = false;
      const tables = await this.#bringTables(course, watched);
      await sleep(Math.max(0, REMEMBER_MS + 500 - (Date.now() - marked)));
      if (await this.#followUntilThere(course, tables, sent)) return;
      if (start === MOST_STARTS)
        throw new Problem('busy', 'Collections change their shape again and again. Move it once they have settled.');
    }
  }

  /**
   * The tables as they are at one moment. What went there with an earlier archive does not go again.
   * @param watched those whose changes are noted; one that was made since is not among those that are returned
   */
  async #bringTables({ environment, row, other, ticket, tell }: Away, watched: ReadonlySet<string>): Promise<Map<string, ReadableTable>> {
    const { parts, store } = this;
    const key = archiveKey(ticket);
    const archive = new Archive(other.place, { app: environment.app, environment: environment.name });
    const known = new Set(await archive.objects());
    const made = await archiveTables({ environment, archive, key, known, tell });
    const setup = await archive.writeLines(await readKept(parts, environment), key, known);
    const none = await archive.writeLines([], key, known);
    const unsigned: Omit<ArchiveManifest, 'mac'> = {
      archive: ARCHIVE_FORMAT,
      id: parts.newId(),
      app: environment.app,
      environment: environment.name,
      environmentId: environment.id,
      at: made.at.toISOString(),
      by: row.by,
      note: '',
      migration: newestMigration(),
      cipher: CIPHER,
      key: key.mark,
      feed: made.feed,
      tables: made.tables,
      structure: made.structure,
      setup: setup.parts[0] as ArchiveManifest['setup'],
      // Contents go by themselves: they are named by their digests already.
      files: { count: 0, bytes: 0, missing: 0, parts: none.parts },
    };
    await archive.writeManifest({ ...unsigned, mac: key.macOf(unsigned) });
    await store.change(row.id, { rows: made.tables.reduce((sum, table) => sum + table.rows, 0) });
    await other.load(unsigned.id);
    for (;;) {
      const { state, doing, problem } = await other.state();
      if (state === 'ready') break;
      if (state !== 'loading') throw new Problem('wrong-state', problem ?? `The arrival at ${other.address} is ${state}.`);
      await tell(doing ?? 'Making the tables there');
      await sleep(ASK_MS);
    }
    return new Map(made.readable.filter(({ name }) => watched.has(name)).map((table) => [table.name, table]));
  }

  /** @returns false where a collection changed its shape meanwhile: then its table goes again */
  async #followUntilThere(course: Away, tables: ReadonlyMap<string, ReadableTable>, sent: Set<string>): Promise<boolean> {
    const { store } = this;
    await store.change(course.row.id, { state: 'catching-up' });
    const reader = await RowReader.open(course.from);
    try {
      for (let attempt = 1; ; attempt++) {
        await this.#catchUp(course, tables, reader);
        await this.#bringFiles(course, sent, true);
        await this.#catchUp(course, tables, reader);
        try {
          return await withSchemaHeld(course.environment, async () => {
            await this.#catchUp(course, tables, reader);
            if (course.triggers.areOld || !(await isAsItWas(course, tables))) return false;
            await this.#switch(course, tables, reader, sent);
            return true;
          });
        } catch (error) {
          if (!(error instanceof NotYet) || attempt === HOLD_TRIES) throw error;
          await store.change(course.row.id, { state: 'catching-up', doing: error.message });
          await sleep(AGAIN_MS);
        }
      }
    } finally {
      reader.close();
    }
  }

  /** Brings changes over until few are left. */
  async #catchUp(course: Away, tables: ReadonlyMap<string, ReadableTable>, reader: RowReader): Promise<void> {
    for (let rounds = 0; ; rounds++) {
      const count = await this.#bringSome(course, tables, reader);
      if (count < FEW) return;
      if (rounds % 10 === 0) await course.tell('Bringing over what changed meanwhile');
    }
  }

  /** @returns how many changes */
  async #bringSome(course: Away, tables: ReadonlyMap<string, ReadableTable>, reader: RowReader): Promise<number> {
    const { from, row, other } = course;
    const changes = await someChanges(from, SOME);
    if (changes.length === 0) return 0;
    let some: TableChange[] = [];
    let size = 0;
    for await (const change of reader.read(changes, tables)) {
      some.push(change);
      size += sizeOf(change);
      if (size < CALL_SIZE) continue;
      await other.changes(some);
      [some, size] = [[], 0];
    }
    if (some.length > 0) await other.changes(some);
    noteTriggers(course, changes);
    await forgetChanges(from, changes);
    await this.store.addCaughtUp(row.id, changes.length);
    return changes.length;
  }

  /** Contents that are not there yet. */
  async #bringFiles({ environment, other, tell }: Away, sent: Set<string>, telling: boolean): Promise<void> {
    const { contents } = this.parts;
    const fresh = (await contents.all(environment))
      .filter(({ digest, damaged }) => !damaged && !sent.has(digest))
      .map(({ digest }) => digest);
    const missing = fresh.length > 0 ? await other.missing(fresh) : [];
    let done = 0;
    await pLimit(FILES_AT_ONCE).map(missing, async (digest) => {
      await other.content(digest, contents.bytes.place(environment.id, digest));
      if (telling && ++done % 50 === 0) await tell(`Bringing files: ${done} of ${missing.length}`);
    });
    for (const digest of fresh) sent.add(digest);
  }

  /** Holds writes, brings over what is left, and agrees with the other installation that it lives there. @throws NotYet */
  async #switch(course: Away, tables: ReadonlyMap<string, ReadableTable>, reader: RowReader, sent: Set<string>): Promise<void> {
    const { parts, store } = this;
    const { environment, row, from, other, tell } = course;
    await tell('Holding writes for a moment');
    const began = performance.now();
    if (!(await closeGate(from, HOLD_MS))) throw new NotYet('Waiting for a transaction that does not end');
    let isAsked = false;
    try {
      while ((await this.#bringSome(course, tables, reader)) > 0)
        if (performance.now() - began > PATIENCE_MS) throw new NotYet('Writes come too fast: bringing them over');
      await this.#bringFiles(course, sent, false);
      const names = countedTables(tables.values());
      const counts = [...(await reader.count(names))].map(([table, rows]) => ({ table, rows }));
      const setup = await readKept(parts, environment);
      if (performance.now() - began > PATIENCE_MS * 2) throw new NotYet('Holding writes took too long');
      if (!(await store.beginSwitching(row.id))) throw new Problem('wrong-state', 'The move was undone.');
      // Whether it lives there is for the other one to say: until it has said so, nobody writes here.
      await closeForGood(from);
      isAsked = true;
      await other.finish({ setup, counts }, HOLD_MS).catch((error) => {
        parts.log.warn({ err: error, move: row.id }, 'the other installation did not confirm that the environment arrived');
      });
    } finally {
      if (!isAsked) await openGate(from);
    }
    await this.#settle(course, began);
  }

  /** Asks until it is known where the environment lives. @throws {Problem} where it lives here */
  async #settle(course: Away, began?: number): Promise<void> {
    const { parts, store } = this;
    const { environment, row, other } = course;
    for (;;) {
      const said = await other.giveUp().catch((error) => {
        // It never heard of this move: the environment cannot live there.
        if (error instanceof Problem && error.problem === 'arrival-refused') throw error;
        return null;
      });
      if (said?.state === 'arrived') break;
      if (said) throw new Problem('wrong-state', said.problem ?? 'The other installation did not take it.');
      await course.tell(`Waiting for ${other.address} to say whether the environment lives there; writes are held`);
      await sleep(AGAIN_MS);
    }
    await noteMovedTo(parts, environment, other.address);
    parts.directory.forget();
    await parts.jobs.forget(environment.id);
    const pauseMs = began === undefined ? row.pauseMs : Math.round(performance.now() - began);
    await store.change(row.id, { state: 'done', pauseMs, doing: null, endedAt: new Date(parts.now()), sealedTicket: null });
  }
}

async function isAsItWas({ from }: Away, tables: ReadonlyMap<string, ReadableTable>): Promise<boolean> {
  const now = await shapesOf(from);
  return now.size === tables.size && [...now].every(([name, shape]) => shape === shapeOf(tables.get(name)?.create));
}

/** About how long a change is as JSON. */
const sizeOf = ({ rows, keys }: TableChange): number =>
  keys.length * 40 +
  rows.flat().reduce<number>((sum, value) => sum + (typeof value === 'string' || Buffer.isBuffer(value) ? value.length * 1.4 : 8), 0);
