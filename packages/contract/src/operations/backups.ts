/** Backups of an environment, restoring from them, and where they are kept. */
import { z } from 'zod';
import { actor, collectionName, ENVIRONMENT, environmentParams, nothing, operation, recordId, slug, time, uuid } from '../common.js';

const viewer = { kind: 'member', role: 'viewer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;
const owner = { kind: 'member', role: 'owner' } as const;
const AT = `${ENVIRONMENT}/backups`;

const keepingRule = z.strictObject({
  days: z.int().min(1).max(400).describe('Days back of which one backup each is kept'),
  weeks: z.int().min(0).max(200),
  months: z.int().min(0).max(120),
});
const settings = z
  .strictObject({
    schedule: z
      .strictObject({ every: z.enum(['day', 'week']).describe('`week`: on Sundays'), hour: z.int().min(0).max(23).describe('In UTC') })
      .nullable()
      .describe('null: by hand only'),
    keep: keepingRule,
    prove: z.boolean().describe('Prove each backup by restoring it'),
  })
  .meta({ id: 'BackupSettings' });
export type BackupSettings = z.output<typeof settings>;

const backup = z
  .object({
    id: uuid,
    app: slug,
    environment: slug,
    state: z.enum(['running', 'done', 'failed']),
    at: time.nullable().describe('The moment it shows'),
    by: actor,
    note: z.string(),
    askedAt: time,
    endedAt: time.nullable(),
    doing: z.string().nullable(),
    problem: z.string().nullable(),
    place: z.string().describe('Where it is'),
    key: z.object({
      mark: z.string().nullable().describe('Of the key it was made with'),
      here: z.boolean().describe('Whether the service has that key: without it, nothing can be restored'),
    }),
    rows: z.int(),
    bytes: z.int().describe('Of its rows, before they are packed'),
    files: z.int(),
    fileBytes: z.int(),
    newBytes: z.int().describe('What was stored for it, since the ones before did not have it'),
    proof: z
      .object({ at: time, whole: z.boolean(), text: z.string(), durationMs: z.int() })
      .nullable()
      .describe('What restoring it into a database of its own has shown; null before the first time'),
  })
  .meta({ id: 'Backup' });
export type BackupDocument = z.output<typeof backup>;

const restore = z
  .object({
    id: uuid,
    backup: uuid.nullable().describe('null: from the change feed'),
    what: z.enum(['environment', 'records']),
    collection: z.string().nullable(),
    moment: time.nullable(),
    into: slug.nullable().describe('The new environment; null: in its place'),
    state: z.enum(['running', 'done', 'failed', 'undone']),
    by: actor,
    at: time,
    endedAt: time.nullable(),
    doing: z.string().nullable(),
    problem: z.string().nullable(),
    rows: z.int(),
    notes: z.array(z.string()).describe('What has to be known of the outcome'),
    undoUntil: time.nullable().describe('Until when the environment is kept that it replaced'),
  })
  .meta({ id: 'Restore' });
export type RestoreDocument = z.output<typeof restore>;

const place = z
  .discriminatedUnion('kind', [
    z.object({ kind: z.literal('directory'), path: z.string() }),
    z.object({
      kind: z.literal('sftp'),
      host: z.string(),
      port: z.int(),
      user: z.string(),
      path: z.string(),
      hostKey: z.string(),
      signsInBy: z.enum(['password', 'key']),
    }),
  ])
  .meta({ id: 'BackupPlace' });
export type BackupPlace = z.output<typeof place>;
const newPlace = z.discriminatedUnion('kind', [
  z.strictObject({ kind: z.literal('directory').describe('The directory of the settings, ORCHARD_BACKUPS') }),
  z.strictObject({
    kind: z.literal('sftp'),
    host: z.string().regex(/^[A-Za-z0-9.:-]{1,253}$/, 'A host name or address.'),
    port: z.int().min(1).max(65535).default(22),
    user: z.string().min(1).max(100),
    path: z.string().max(1000).default('').describe('A folder there; without one, where the host puts the user'),
    hostKey: z
      .string()
      .regex(/^SHA256:[A-Za-z0-9+/]{43}$/, 'As `ssh-keygen -l` prints it: SHA256: and 43 characters.')
      .optional()
      .describe('Without it, the answer says which key the host shows'),
    password: z.string().min(1).max(1000).optional(),
    privateKey: z.string().max(20_000).optional().describe('In PEM, without a passphrase'),
  }),
]);
export type NewBackupPlace = z.output<typeof newPlace>;

const wish = {
  moment: time
    .optional()
    .describe('Records and users to the second, by the change feed; everything else as of the backup. Between the backup and now'),
};
const plan = z
  .object({
    at: time.describe('The moment of the backup'),
    lines: z.array(z.string()).describe('What happens, in this order'),
    losses: z.array(z.string()).describe('What is there now and would not be there afterwards'),
    tables: z
      .array(z.object({ name: z.string(), now: z.int().nullable(), inBackup: z.int().nullable() }))
      .describe('Records by collection; users and files too'),
    durationMs: z.int().describe('About how long it takes'),
  })
  .meta({ id: 'RestorePlan' });
export type RestorePlanDocument = z.output<typeof plan>;

const ofBackup = environmentParams.extend({ backup: uuid });
const ofRestore = environmentParams.extend({ restore: uuid });
const PLACE_PROBLEMS = ['backup-place-unusable', 'backup-unreadable', 'backup-key-missing'] as const;

export const backupOperations = {
  list: operation({
    id: 'backups.list',
    command: 'backup list',
    method: 'GET',
    path: AT,
    summary: 'The backups of an environment, the newest first',
    caller: viewer,
    params: environmentParams,
    reply: z.object({
      items: z.array(backup),
      place: z.string().describe('Where new ones go'),
      key: z.object({ mark: z.string(), whereabouts: z.string().describe('Where the service has its key from: keep a copy elsewhere') }),
      nextAt: time.nullable(),
      problem: z.string().nullable().describe('Why the place could not be looked at'),
    }),
  }),
  make: operation({
    id: 'backups.make',
    changes: 'backup',
    method: 'POST',
    path: AT,
    summary: 'Make a backup',
    caller: maintainer,
    params: environmentParams,
    body: z.strictObject({ note: z.string().trim().max(300).default('') }),
    status: 202,
    reply: backup,
    problems: ['backup-in-progress', 'backup-place-unusable'],
  }),
  read: operation({
    id: 'backups.read',
    command: 'backup show',
    method: 'GET',
    path: `${AT}/{backup}`,
    summary: 'One backup',
    caller: viewer,
    params: ofBackup,
    reply: backup,
    problems: ['not-found'],
  }),
  remove: operation({
    id: 'backups.remove',
    changes: 'backup',
    confirmed: true,
    command: 'backup remove',
    method: 'DELETE',
    path: `${AT}/{backup}`,
    summary: 'Delete a backup',
    caller: owner,
    params: ofBackup,
    status: 204,
    reply: nothing,
    problems: ['not-found', 'busy', ...PLACE_PROBLEMS],
  }),
  prove: operation({
    id: 'backups.prove',
    changes: 'backup',
    method: 'POST',
    path: `${AT}/{backup}/prove`,
    summary: 'Prove a backup: restore it into a database of its own, and compare counts and digests',
    caller: maintainer,
    params: ofBackup,
    status: 202,
    reply: backup,
    problems: ['not-found', 'wrong-state', 'backup-key-missing'],
  }),
  plan: operation({
    id: 'backups.plan',
    method: 'GET',
    path: `${AT}/{backup}/plan`,
    summary: 'What restoring a backup in place of the environment would do, and what would be lost',
    caller: maintainer,
    params: ofBackup,
    query: z.strictObject(wish),
    reply: plan,
    problems: ['not-found', ...PLACE_PROBLEMS],
  }),
  restore: operation({
    id: 'backups.restore',
    changes: 'backup',
    confirmed: true,
    method: 'POST',
    path: `${AT}/{backup}/restore`,
    summary: 'Restore an environment from a backup: in its place, which can be undone for three days, or as a new one beside it',
    caller: owner,
    params: ofBackup,
    body: z.strictObject({
      ...wish,
      into: slug.optional().describe('A new environment of the app; without it, the environment is replaced'),
    }),
    status: 202,
    reply: restore,
    problems: ['not-found', 'wrong-state', 'already-exists', 'backup-in-progress', ...PLACE_PROBLEMS],
  }),
  restoreRecords: operation({
    id: 'backups.restoreRecords',
    changes: 'record',
    confirmed: true,
    method: 'POST',
    path: `${ENVIRONMENT}/restores`,
    summary: 'Restore records of one collection as they were in a backup, or at a moment of the last 30 days',
    caller: maintainer,
    params: environmentParams,
    body: z.strictObject({
      collection: collectionName,
      backup: uuid.optional().describe('As they were in it'),
      moment: time.optional().describe('Or as they were then, by the change feed'),
      filter: z.string().max(4000).optional().describe('Those that it fits as they were then (CQL2)'),
      ids: z.array(recordId).max(1000).default([]).describe('Or these'),
      removeOthers: z.boolean().default(false).describe('Delete records that did not exist then'),
    }),
    status: 202,
    reply: restore,
    problems: ['not-found', 'malformed-filter', 'collection-unknown', 'wrong-state', 'backup-in-progress', ...PLACE_PROBLEMS],
  }),
  restores: operation({
    id: 'backups.restores',
    command: 'backup restores',
    method: 'GET',
    path: `${ENVIRONMENT}/restores`,
    summary: 'What was restored in an environment, the newest first',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(restore) }),
  }),
  readRestore: operation({
    id: 'backups.readRestore',
    method: 'GET',
    path: `${ENVIRONMENT}/restores/{restore}`,
    summary: 'How far a restore is',
    caller: viewer,
    params: ofRestore,
    reply: restore,
    problems: ['not-found'],
  }),
  undo: operation({
    id: 'backups.undo',
    changes: 'backup',
    confirmed: true,
    command: 'backup undo',
    method: 'POST',
    path: `${ENVIRONMENT}/restores/{restore}/undo`,
    summary: 'Put the environment back that a restore has replaced; what was written since the restore is lost',
    caller: owner,
    params: ofRestore,
    reply: restore,
    problems: ['not-found', 'wrong-state', 'busy'],
  }),
  settings: operation({
    id: 'backups.settings',
    command: 'backup settings',
    method: 'GET',
    path: `${ENVIRONMENT}/backup-settings`,
    summary: 'When an environment is backed up, and how long backups are kept',
    caller: viewer,
    params: environmentParams,
    reply: settings,
  }),
  changeSettings: operation({
    id: 'backups.changeSettings',
    changes: 'backup',
    method: 'PUT',
    path: `${ENVIRONMENT}/backup-settings`,
    summary: 'Change when an environment is backed up, and how long backups are kept',
    caller: maintainer,
    params: environmentParams,
    body: settings,
    reply: settings,
  }),
  place: operation({
    id: 'backups.place',
    command: 'backup place',
    method: 'GET',
    path: '/manage/v1/backup-place',
    summary: 'Where the installation keeps its backups',
    caller: owner,
    reply: place,
  }),
  changePlace: operation({
    id: 'backups.changePlace',
    changes: 'backup place',
    confirmed: true,
    method: 'PUT',
    path: '/manage/v1/backup-place',
    summary: 'Change where the installation keeps its backups; the place is tried first',
    caller: owner,
    body: newPlace,
    reply: place,
    problems: ['backup-place-unusable'],
  }),
  found: operation({
    id: 'backups.found',
    command: 'backup found',
    method: 'GET',
    path: '/manage/v1/backups',
    summary: 'Everything that the place holds, also of environments that are gone',
    caller: owner,
    reply: z.object({ items: z.array(backup), place: z.string() }),
    problems: [...PLACE_PROBLEMS],
  }),
  restoreGone: operation({
    id: 'backups.restoreGone',
    changes: 'environment',
    confirmed: true,
    method: 'POST',
    path: '/manage/v1/backups/{backup}/restore',
    summary: 'Restore an environment that is gone, with its keys, or under a new name',
    caller: owner,
    params: z.object({ backup: uuid }),
    body: z.strictObject({ ...wish, app: slug, environment: slug, into: slug.optional() }),
    status: 202,
    reply: restore,
    problems: ['not-found', 'wrong-state', 'already-exists', 'backup-in-progress', ...PLACE_PROBLEMS],
  }),
};
