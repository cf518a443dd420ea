/**
 * Moves an environment while it is in use, as a job of the installation. To another database server: copied at one moment,
 * brought up to date with what changed meanwhile, and switched while writes are held for a moment. Until the switch everything
 * can be left as it was; after it, nothing of it is left behind. To another installation: see leaving.ts.
 */
import { setTimeout as sleep } from 'node:timers/promises';
import { Problem } from '@orchard/contract';
import { REMEMBER_MS } from '../../platform/access/directory.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import type { Job, JobKind, Lease } from '../../platform/jobs/queue.js';
import { makingOf, type ReadableTable, readTables } from '../backups/structureDdl.js';
import { TableLoader } from '../backups/threads/tableLoader.js';
import { TableReader, TablesChanged } from '../backups/threads/tableReader.js';
import { completeTable, dropTable, makeTables } from '../backups/tableDdl.js';
import { capture, closeForGood, closeGate, forgetChanges, openGate, release, someChanges } from './captureDdl.js';
import { countedTables, RowCopier } from './copying.js';
import {
  AGAIN_MS,
  type Course,
  FEW,
  HandedOver,
  HOLD_MS,
  HOLD_TRIES,
  MOST_STARTS,
  NotYet,
  noteTriggers,
  PATIENCE_MS,
  SOME,
  type Tell,
  withSchemaHeld,
} from './course.js';
import { markMoving, noteServer, unmarkMoving } from './environmentRows.js';
import { Leaving } from './leaving.js';
import { OtherInstallation } from './otherInstallation.js';
import type { Parts } from './parts.js';
import { PASSING, shapeOf, shapesOf } from './shapes.js';
import type { MoveRow, MoveStore } from './store.js';
import { openTicket } from './ticket.js';

export const MOVE_JOB = 'move';
type Within = Course & { to: EnvironmentDatabase };

export class Moving {
  constructor(
    private readonly parts: Parts,
    private readonly store: MoveStore,
  ) {}

  readonly job: JobKind = { work: (job, lease) => this.#work(job, lease), atOnce: 2 };

  async #work(job: Job, lease: Lease): Promise<Date | null> {
    const { parts, store } = this;
    const row = await store.find(job.subject);
    if (!row || ['done', 'failed', 'undone'].includes(row.state)) return null;
    const environment = await parts.directory.environmentById(row.environmentId);
    if (!environment) {
      // Killed after it was noted that it lives elsewhere.
      if (row.installation !== null && row.state === 'switching') await this.#end(row, { state: 'done', sealedTicket: null });
      else await this.#end(row, { state: 'failed', problem: 'The environment was deleted.' });
      return null;
    }
    const tell: Tell = async (doing) => {
      if (lease.stopping() || !(await lease.renew())) throw new HandedOver();
      const now = await store.find(row.id);
      if (now?.state === 'undone') throw new Problem('wrong-state', 'The move was undone.');
      await store.change(row.id, { doing });
    };
    const from = environment.db.on(parts.servers.named(row.from));
    const course: Course = { environment, row, from, tell, triggers: { areOld: true } };
    try {
      if (row.installation === null) await this.#within({ ...course, to: environment.db.on(parts.servers.named(row.to)) });
      else await this.#away(course, row.installation);
    } catch (error) {
      if (!(error instanceof HandedOver)) throw error;
      return new Date(parts.now());
    }
    return null;
  }

  async #within(course: Within): Promise<void> {
    const { environment, row, from, to } = course;
    try {
      // Killed after the switch: what is left behind goes.
      if (environment.server !== row.to) await this.#move(course);
      await this.#leave(course);
    } catch (error) {
      if (error instanceof HandedOver) throw error;
      // Once it is there, it lives there: what is left to do is tried again, and nothing goes back.
      if ((await this.parts.directory.environmentById(environment.id))?.server === row.to) throw error;
      await this.#goBack(course, error, async () => {
        await release(from);
        await to.drop();
      });
    }
  }

  async #away(course: Course, installation: string): Promise<void> {
    const ticket = openTicket(this.parts, course.row);
    const other = new OtherInstallation(installation, ticket);
    try {
      await new Leaving(this.parts, this.store).leave({ ...course, other, ticket });
    } catch (error) {
      if (error instanceof HandedOver) throw error;
      // One that does not hear it keeps what it has until somebody there gives it up.
      const said = await other.giveUp().catch(() => null);
      const isAsked = (await this.store.find(course.row.id))?.state === 'switching';
      // It lives there, or may do so: that is settled with the next try, and nothing goes back.
      if (said?.state === 'arrived' || (isAsked && said === null)) throw error;
      await this.#goBack(course, error, () => release(course.from));
    }
  }

  async #move(course: Within): Promise<void> {
    const { parts, store } = this;
    const { environment, row, from, to, tell } = course;
    const began = Date.now();
    await tell('Preparing');
    await markMoving(parts, environment, row.id);
    // Of an earlier attempt that was killed.
    await release(from);
    await to.drop();
    const copied = await this.#copyAll(course);
    await store.change(row.id, { state: 'catching-up' });
    const copier = await RowCopier.open(from, to);
    try {
      await this.#catchUp(course, copied, copier);
      await sleep(Math.max(0, REMEMBER_MS + 500 - (Date.now() - began)));
      for (let attempt = 1; ; attempt++) {
        await this.#recopyChanged(course, copied);
        await this.#catchUp(course, copied, copier);
        try {
          if (course.triggers.areOld) await this.#writeTriggers(course);
          return await withSchemaHeld(environment, async () => {
            await this.#catchUp(course, copied, copier);
            if (course.triggers.areOld || (await this.#changed(from, copied)).length > 0) throw new NotYet('A collection has changed');
            await this.#switch(course, copied, copier);
          });
        } catch (error) {
          if (!(error instanceof NotYet) || attempt === HOLD_TRIES) throw error;
          await store.change(row.id, { state: 'catching-up', doing: error.message });
          await sleep(AGAIN_MS);
        }
      }
    } finally {
      copier.close();
    }
  }

  /** All tables at one moment; from the start again where a collection changes its shape meanwhile. */
  async #copyAll(course: Within): Promise<Map<string, ReadableTable>> {
    for (let start = 1; ; start++) {
      await course.to.create();
      const watched = await capture(course.from, course.environment.id);
      try {
        return await this.#copyTables(course, watched);
      } catch (error) {
        if (!(error instanceof TablesChanged) || start === MOST_STARTS) throw error;
        await course.to.drop();
      }
    }
  }

  /** @param watched the tables to copy: those whose changes are noted */
  async #copyTables({ from, to, row, tell }: Within, watched: ReadonlySet<string>): Promise<Map<string, ReadableTable>> {
    // Nothing is stored: the key only names what passes by.
    const reader = new TableReader(from.server.url, PASSING, 'raw');
    const loader = new TableLoader(to.server.url, PASSING, false);
    const copied = new Map<string, ReadableTable>();
    let rows = (await this.store.find(row.id))?.rows ?? 0;
    try {
      await reader.begin();
      const tables = (await readTables(reader, from.name)).filter(({ name }) => watched.has(name));
      const makings = new Map(tables.map((table) => [table.name, makingOf(table, to.collection(table.name))]));
      await makeTables(to, [...makings.values()]);
      for (const table of tables) {
        await tell(`Copying ${table.name}`);
        await loader.table(table.name, to.collection(table.name), table.columns);
        const reading = reader.read(table);
        let next = await reading.next();
        for (; !next.done; next = await reading.next()) if (next.value.packed) await loader.lines(next.value.packed);
        await loader.end();
        await completeTable(to, makings.get(table.name)?.complete ?? []);
        rows += next.value;
        copied.set(table.name, table);
        await this.store.change(row.id, { rows });
      }
      return copied;
    } finally {
      await Promise.all([reader.close(), loader.close()]);
    }
  }

  /** What the rooms keep in a database besides rows. @throws NotYet */
  async #writeTriggers({ environment, to, triggers }: Within): Promise<void> {
    try {
      triggers.areOld = false;
      await this.parts.ports.environmentReturned({ ...environment, db: to, triggers: 0 });
    } catch (error) {
      triggers.areOld = true;
      throw error instanceof Problem && error.problem === 'busy' ? new NotYet('Waiting for a change of a collection') : error;
    }
  }

  /** Brings changes over until few are left. */
  async #catchUp(course: Within, tables: ReadonlyMap<string, ReadableTable>, copier: RowCopier): Promise<void> {
    const { from, row, tell } = course;
    for (let rounds = 0; ; rounds++) {
      const changes = await someChanges(from, SOME);
      if (changes.length === 0) return;
      await copier.copy(changes, tables);
      noteTriggers(course, changes);
      await forgetChanges(from, changes);
      await this.store.addCaughtUp(row.id, changes.length);
      if (changes.length < FEW) return;
      if (rounds % 10 === 0) await tell('Bringing over what changed meanwhile');
    }
  }

  /** Tables that were made, dropped or changed since they were copied are copied again. */
  async #recopyChanged(course: Within, copied: Map<string, ReadableTable>): Promise<void> {
    for (let round = 1; round <= MOST_STARTS; round++) {
      const changed = await this.#changed(course.from, copied);
      if (changed.length === 0) return;
      await course.tell(`Copying again: ${changed.join(', ')}`.slice(0, 200));
      const watched = await capture(course.from, course.environment.id, new Set(changed));
      try {
        for (const name of changed) {
          await dropTable(course.to, name);
          copied.delete(name);
        }
        for (const [name, table] of await this.#copyTables(course, watched)) copied.set(name, table);
        course.triggers.areOld = true;
      } catch (error) {
        if (!(error instanceof TablesChanged)) throw error;
      }
    }
  }

  /** The names of tables that were made, dropped or changed since they were copied. */
  async #changed(from: EnvironmentDatabase, copied: ReadonlyMap<string, ReadableTable>): Promise<string[]> {
    const now = await shapesOf(from);
    const changed = [...now].filter(([name, shape]) => shapeOf(copied.get(name)?.create) !== shape).map(([name]) => name);
    return [...changed, ...[...copied.keys()].filter((name) => !now.has(name))];
  }

  /** Holds writes, brings over what is left, and makes the other server the one. @throws NotYet */
  async #switch(course: Within, copied: ReadonlyMap<string, ReadableTable>, copier: RowCopier): Promise<void> {
    const { parts, store } = this;
    const { environment, row, from, tell } = course;
    await tell('Holding writes for a moment');
    const began = performance.now();
    if (!(await closeGate(from, HOLD_MS))) throw new NotYet('Waiting for a transaction that does not end');
    let isOver = false;
    try {
      for (;;) {
        const changes = await someChanges(from, SOME);
        if (changes.length === 0) break;
        if (performance.now() - began > PATIENCE_MS) throw new NotYet('Writes come too fast: bringing them over');
        await copier.copy(changes, copied);
        await forgetChanges(from, changes);
        await store.addCaughtUp(row.id, changes.length);
      }
      const differing = await copier.differing(countedTables(copied.values()));
      if (differing.length > 0) throw new Problem('wrong-state', `${differing.join(', ')} did not come over whole. Nothing was changed.`);
      if (performance.now() - began > HOLD_MS - PATIENCE_MS) throw new NotYet('Holding writes took too long');
      if (!(await noteServer(parts, environment, row.id, row.to))) throw new Problem('wrong-state', 'The move was undone.');
      isOver = true;
      parts.servers.databaseOf(environment.id, row.to);
      parts.directory.forget();
      await closeForGood(from);
    } finally {
      if (!isOver) await openGate(from);
    }
    await store.change(row.id, { state: 'switching', pauseMs: Math.round(performance.now() - began), doing: 'Leaving the former server' });
    parts.changes.wake(environment.id);
    await parts.jobs.wake({ id: environment.id });
  }

  /** The other instances have seen it by now: what was left behind goes. */
  async #leave({ row, from }: Within): Promise<void> {
    await sleep(REMEMBER_MS + 500);
    await from.drop();
    await this.#end(row, { state: 'done' });
  }

  /** @param leave what removes all that the move has made */
  async #goBack({ environment, row }: Course, error: unknown, leave: () => Promise<void>): Promise<void> {
    const { parts } = this;
    await unmarkMoving(parts, environment, row.id);
    parts.directory.forget();
    await leave();
    const text = error instanceof Problem ? error.detail : (error as Error).message;
    if (!(error instanceof Problem)) parts.log.error({ err: error, move: row.id }, 'a move was undone');
    const now = await this.store.find(row.id);
    await this.#end(
      row,
      now?.state === 'undone'
        ? { sealedTicket: null }
        : { state: 'failed', sealedTicket: null, problem: `${text} Everything is as it was.`.slice(0, 2000) },
    );
  }

  async #end(row: MoveRow, changes: Partial<MoveRow>): Promise<void> {
    await this.store.change(row.id, { doing: null, endedAt: new Date(this.parts.now()), ...changes });
  }
}
