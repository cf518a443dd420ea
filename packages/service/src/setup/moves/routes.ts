import { type BodyOf, type MoveDocument, operations, Problem } from '@orchard/contract';
import { eq } from 'drizzle-orm';
import { environments } from '../../platform/access/systemTables.js';
import { authorOf, bind, type Call, type Environment, environmentOf, type Route } from '../../platform/call.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { newestMigration } from '../../platform/database/migrate.js';
import { MOVE_JOB } from './moving.js';
import { OtherInstallation } from './otherInstallation.js';
import type { Parts } from './parts.js';
import { planOf } from './planning.js';
import type { MoveRow, MoveStore } from './store.js';
import { sealTicket } from './ticket.js';

type MoveTarget = BodyOf<typeof operations.moves.begin>;

export function moveRoutes(parts: Parts, store: MoveStore): Route[] {
  const own = operations.moves;
  const show = (row: MoveRow) => present(parts, row);
  return [
    bind(own.servers, async () => ({ body: { items: [null, ...parts.servers.names] } })),
    bind(own.plan, async (call) => ({ body: await planOf(parts, environmentOf(call), call.query) })),
    bind(own.begin, async (call) => ({ body: show(await begin(parts, store, call as Call, call.body)) }), { as: 'apart' }),
    bind(own.list, async (call) => ({ body: { items: (await store.list(environmentOf(call).id)).map(show) } })),
    bind(own.read, async (call) => ({ body: show(await found(store, environmentOf(call), call.params.move)) })),
    bind(
      own.undo,
      async (call) => {
        const row = await found(store, environmentOf(call), call.params.move);
        if (!(await undo(parts, store, row)))
          throw new Problem(
            'wrong-state',
            `This move is ${row.state}. Until it switches it can be undone; afterwards, move the environment back.`,
          );
        return { body: show((await store.find(row.id)) as MoveRow) };
      },
      { as: 'apart' },
    ),
  ];
}

async function found(store: MoveStore, environment: Environment, id: string): Promise<MoveRow> {
  const row = await store.find(id);
  if (row?.environmentId === environment.id) return row;
  throw new Problem('not-found', `There is no move ${id} of ${environment.app}/${environment.name}.`);
}

/** @throws {Problem} invalid-input, move-in-progress */
async function begin(parts: Parts, store: MoveStore, call: Call, target: MoveTarget): Promise<MoveRow> {
  const environment = environmentOf(call);
  const id = parts.newId();
  const to = 'server' in target ? target.server : null;
  const away = 'ticket' in target ? { installation: target.installation, sealedTicket: sealTicket(parts, id, target.ticket) } : {};
  if ('server' in target) await planOf(parts, environment, { server: to ?? undefined });
  return environment.db.withLease('move', async () => {
    if (await store.underWay(environment.id))
      throw new Problem(
        'move-in-progress',
        `${environment.app}/${environment.name} is being moved already. Wait until that has ended, or undo it.`,
      );
    if ('ticket' in target) await announce(environment, target);
    const installation = parts.directory.installation();
    const row = await parts.database.unit(async () => {
      await parts.jobs.add(parts.database, installation, MOVE_JOB, id);
      return store.add({
        id,
        environmentId: environment.id,
        state: 'copying',
        from: environment.server,
        to,
        ...away,
        by: authorOf(call),
        at: new Date(parts.now()),
        notes: [],
      });
    });
    await parts.jobs.wake(installation);
    return row;
  });
}

/** A ticket that is not valid, or a version that differs, is told before anything begins. @throws {Problem} */
async function announce({ app, name, id }: Environment, { installation, ticket }: { installation: string; ticket: string }): Promise<void> {
  await new OtherInstallation(installation, ticket).announce({ app, environment: name, id, migration: newestMigration() });
}

/** The switch asks for the mark that is taken away here: of the two, one comes first. @returns false where that was the switch */
function undo({ database }: Parts, store: MoveStore, row: MoveRow): Promise<boolean> {
  return database.unit(async () => {
    const environment = (await database.orm.select().from(environments).where(eq(environments.id, row.environmentId)).for('update'))[0];
    if (!environment || (row.installation === null && environment.server === row.to) || !(await store.undo(row.id))) return false;
    await database.orm.update(environments).set({ moving: null }).where(eq(environments.id, row.environmentId));
    return true;
  });
}

function present({ actors }: Parts, row: MoveRow): MoveDocument {
  const { id, state, from, to, installation, doing, problem, rows, caughtUp, pauseMs } = row;
  return {
    id,
    state,
    from,
    to,
    installation,
    by: actors.show(row.by),
    at: row.at.toISOString(),
    endedAt: row.endedAt?.toISOString() ?? null,
    doing,
    problem,
    rows,
    caughtUp,
    pauseMs,
    notes: storedJson(row.notes) as string[],
  };
}
