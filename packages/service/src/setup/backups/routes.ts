import { operations, Problem } from '@orchard/contract';
import { authorOf, bind, type Call, type Environment, environmentOf, type Route } from '../../platform/call.js';
import { Archive, type ArchiveOf, keyMissing } from './archive.js';
import { adopt, everythingFound } from './adopting.js';
import { beginBackup, nextSlot } from './due.js';
import { removeBackup } from './keeping.js';
import { type Ground, PROOF_JOB, RESTORE_JOB } from './ground.js';
import { demandMoment, planOf } from './planning.js';
import type { Restoring } from './restoring.js';
import { demandReadable } from './proving.js';
import { presentBackup, presentRestore } from './presenting.js';
import { backupSettings } from './settings.js';
import type { BackupRow, RestoreRow } from './store.js';
import type { RestoreWish } from './wish.js';

export function backupRoutes(ground: Ground, restoring: Restoring): Route[] {
  const { parts, places, store, keys } = ground;
  const own = operations.backups;
  const show = (row: BackupRow) => presentBackup(parts.actors, keys, row);
  const showRestore = (row: RestoreRow) => presentRestore(parts.actors, row);
  return [
    bind(own.list, async (call) => ({ body: await list(ground, environmentOf(call)) })),
    bind(
      own.make,
      async (call) => {
        const environment = environmentOf(call);
        await demandIdle(ground, placeOf(environment));
        return { body: show(await beginBackup(ground, environment, { by: authorOf(call), note: call.body.note })) };
      },
      { as: 'apart' },
    ),
    bind(own.read, async (call) => ({ body: show(await found(ground, environmentOf(call), call.params.backup)) })),
    bind(
      own.remove,
      async (call) => {
        await removeBackup(ground, await found(ground, environmentOf(call), call.params.backup));
        return { body: undefined };
      },
      { as: 'apart' },
    ),
    bind(
      own.prove,
      async (call) => {
        const row = await whole(ground, environmentOf(call), call.params.backup);
        const installation = parts.directory.installation();
        await parts.jobs.add(parts.database, installation, PROOF_JOB, row.id);
        await parts.jobs.wake(installation);
        return { body: show({ ...row, doing: 'Proof: about to begin' }) };
      },
      { as: 'apart' },
    ),
    bind(own.plan, async (call) => {
      const environment = environmentOf(call);
      const row = await whole(ground, environment, call.params.backup);
      return { body: await planOf(ground, environment, row, momentOf(call.query.moment)) };
    }),
    bind(
      own.restore,
      async (call) => ({
        body: showRestore(await restoreEnvironment(ground, call as Call, environmentOf(call), call.params.backup, call.body)),
      }),
      {
        as: 'apart',
      },
    ),
    bind(own.restoreRecords, async (call) => ({ body: showRestore(await restoreSome(ground, call as Call, call.body)) }), { as: 'apart' }),
    bind(own.restores, async (call) => ({ body: { items: (await store.restores(placeOf(environmentOf(call)))).map(showRestore) } })),
    bind(own.readRestore, async (call) => ({ body: showRestore(await foundRestore(ground, environmentOf(call), call.params.restore)) })),
    bind(
      own.undo,
      async (call) => {
        const row = await foundRestore(ground, environmentOf(call), call.params.restore);
        await restoring.undo(row);
        return { body: showRestore((await store.findRestore(row.id)) as RestoreRow) };
      },
      { as: 'apart' },
    ),
    bind(own.settings, async (call) => ({ body: await backupSettings.read(environmentOf(call)) })),
    bind(
      own.changeSettings,
      async (call) => {
        await backupSettings.write(environmentOf(call), call.body, new Date(parts.now()));
        return { body: call.body };
      },
      { read: async (call) => backupSettings.read(environmentOf(call)) },
    ),
    bind(own.place, async () => ({ body: await places.read() })),
    bind(
      own.changePlace,
      async (call) => {
        await places.change(call.body);
        return { body: await places.read() };
      },
      { as: 'apart', read: () => places.read() },
    ),
    bind(own.found, async () => ({ body: await everythingFound(ground) })),
    bind(
      own.restoreGone,
      async (call) => {
        const { app, environment, into, moment } = call.body;
        const of = { app, environment };
        const present = await parts.directory.environment(app, environment).catch(() => null);
        if (present && !into)
          throw new Problem(
            'already-exists',
            `There is \`${app}/${environment}\`. Restore it there, or name another environment as \`into\`.`,
          );
        await adopt(ground, of);
        const row = await store.find(call.params.backup);
        if (row?.app !== app || row.environment !== environment)
          throw new Problem('not-found', `There is no backup ${call.params.backup} of ${app}/${environment}.`);
        return {
          body: showRestore(
            await begin(ground, call as Call, row, { what: 'environment', moment: moment ?? null, replace: false, into: into ?? null }),
          ),
        };
      },
      { as: 'apart' },
    ),
  ];
}

const placeOf = ({ app, name }: Environment): ArchiveOf => ({ app, environment: name });
const momentOf = (text: string | undefined): Date | null => (text ? new Date(text) : null);

async function list(ground: Ground, environment: Environment) {
  const { parts, store, places, keys } = ground;
  const of = placeOf(environment);
  const problem = await adopt(ground, of).then(
    () => null,
    (error) => {
      if (error instanceof Problem) return error.detail;
      throw error;
    },
  );
  const { schedule } = await backupSettings.read(environment);
  const place = await places.open();
  await place.close();
  return {
    items: (await store.list(of)).map((row) => presentBackup(parts.actors, keys, row)),
    place: place.words,
    key: { mark: keys.current.mark, whereabouts: keys.whereabouts },
    nextAt: schedule ? new Date(nextSlot(schedule, parts.now())).toISOString() : null,
    problem,
  };
}

async function found({ store }: Ground, environment: Environment, id: string): Promise<BackupRow> {
  const row = await store.find(id);
  if (row?.app === environment.app && row.environment === environment.name) return row;
  throw new Problem('not-found', `There is no backup ${id} of ${environment.app}/${environment.name}.`);
}

/** One that can be restored. @throws {Problem} not-found, wrong-state, backup-key-missing */
async function whole(ground: Ground, environment: Environment, id: string): Promise<BackupRow> {
  const row = await found(ground, environment, id);
  demandWhole(ground, row);
  return row;
}

function demandWhole({ keys }: Ground, row: BackupRow): void {
  if (row.state !== 'done')
    throw new Problem('wrong-state', row.state === 'failed' ? `This backup failed: ${row.problem}` : 'This backup is still being made.');
  if (row.keyMark && !keys.of(row.keyMark)) throw keyMissing(row.keyMark, keys);
}

async function foundRestore({ store }: Ground, environment: Environment, id: string): Promise<RestoreRow> {
  const row = await store.findRestore(id);
  if (row?.app === environment.app && row.environment === environment.name) return row;
  throw new Problem('not-found', `There is no restore ${id} in ${environment.app}/${environment.name}.`);
}

/** @throws {Problem} backup-in-progress */
async function demandIdle({ store }: Ground, of: ArchiveOf): Promise<void> {
  const [backups, restores] = await Promise.all([store.list(of), store.restores(of)]);
  const busy = [...backups, ...restores].find(({ state }) => state === 'running');
  if (busy) throw new Problem('backup-in-progress', `${of.app}/${of.environment}: ${busy.doing ?? 'about to begin'}.`);
}

type Asked = { moment?: string | undefined; into?: string | undefined };

async function restoreEnvironment(
  ground: Ground,
  call: Call,
  environment: Environment,
  id: string,
  { moment, into }: Asked,
): Promise<RestoreRow> {
  const row = await whole(ground, environment, id);
  return begin(ground, call, row, { what: 'environment', moment: moment ?? null, replace: into === undefined, into: into ?? null });
}

type AskedRecords = {
  collection: string;
  backup?: string | undefined;
  moment?: string | undefined;
  filter?: string | undefined;
  ids: string[];
  removeOthers: boolean;
};

async function restoreSome(
  ground: Ground,
  call: Call,
  { collection, backup, moment, filter, ids, removeOthers }: AskedRecords,
): Promise<RestoreRow> {
  const environment = environmentOf(call);
  if ((backup === undefined) === (moment === undefined))
    throw new Problem('invalid-input', 'Say either which backup the records come from, or as of which moment.', {
      fields: [{ path: 'body.backup', problem: 'One of `backup` and `moment` is needed.', expected: 'one of the two' }],
    });
  await ground.parts.catalogue.get(environment, collection);
  const row = backup === undefined ? null : await whole(ground, environment, backup);
  const wish: RestoreWish = { what: 'records', moment: moment ?? null, collection, filter: filter ?? null, ids, removeOthers };
  return begin(ground, call, row ?? { ...placeOf(environment), id: '' }, wish);
}

async function begin(
  ground: Ground,
  call: Call,
  backup: ArchiveOf & { id: string } & Partial<BackupRow>,
  wish: RestoreWish,
): Promise<RestoreRow> {
  const { parts, store, places, keys } = ground;
  await demandIdle(ground, backup);
  if (wish.what === 'environment') {
    demandWhole(ground, backup as BackupRow);
    // Opened before anything is begun: what cannot be read is said now.
    const { manifest } = await places.with((place) => new Archive(place, backup).open(backup.id, keys));
    demandReadable(manifest);
    demandMoment(momentOf(wish.moment ?? undefined), new Date(manifest.at), parts.now());
    const target = wish.into ?? (wish.replace ? null : backup.environment);
    if (target && (await parts.directory.environment(backup.app, target).catch(() => null)))
      throw new Problem('already-exists', `\`${backup.app}\` has an environment \`${target}\` already. Choose another name.`);
  }
  const installation = parts.directory.installation();
  const id = parts.newId();
  const row = await parts.database.unit(async () => {
    await parts.jobs.add(parts.database, installation, RESTORE_JOB, id);
    return store.addRestore({
      id,
      app: backup.app,
      environment: backup.environment,
      backup: backup.id,
      wish,
      state: 'running',
      by: authorOf(call),
      at: new Date(parts.now()),
      notes: [],
    });
  });
  await parts.jobs.wake(installation);
  return row;
}
