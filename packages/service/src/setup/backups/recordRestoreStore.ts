/**
 * Restores the records of one collection, all or some, in the environment as it is: each as a change like any other, with a new
 * version and an entry of the change feed, so that apps hear of it. Raw SQL: the columns are data.
 */
import { createHash } from 'node:crypto';
import { Problem } from '@orchard/contract';
import { bindSlots, type Field, targetOfField } from '@orchard/core';
import type { CollectionShape } from '../../data/collections/shape.js';
import { spatialUpdateSql } from '../../data/collections/columns.js';
import { lastEndedSql } from '../../data/collections/endedSql.js';
import { type Rule, readRule, ruleSql } from '../../data/collections/querySql.js';
import { askingOf, THE_SERVICE_ITSELF } from '../../data/records/author.js';
import { isDuplicate } from '../../platform/database/errors.js';
import type { Statements } from '../../platform/database/connection.js';
import type { Environment } from '../../platform/call.js';
import { feedTable } from '../../platform/live/tables.js';
import { Archive } from './archive.js';
import { formsOf, type Image, writeImages } from './imageStore.js';
import { fillTable, structuresOf } from './loading.js';
import type { Ground } from './ground.js';
import { demandReadable } from './proving.js';
import type { RestoreRow } from './store.js';
import { makingOf } from './structureDdl.js';
import { TableLoader } from './threads/tableLoader.js';
import type { RestoreWish } from './wish.js';

export type RecordsWish = Extract<RestoreWish, { what: 'records' }>;
type Tell = (doing: string) => Promise<void>;
/** Records that are written in one transaction. */
const SOME = 500;
export type RecordsFound = { rows: number; notes: string[] };
/** Where the records stand as they were, and what the two have in common. */
type Side = { shape: CollectionShape; scratch: string; fields: [string, Field][]; notes: string[] };

export async function restoreRecords(ground: Ground, row: RestoreRow, wish: RecordsWish, tell: Tell): Promise<RecordsFound> {
  const { parts } = ground;
  const environment = await parts.directory.environment(row.app, row.environment);
  const shape = await parts.catalogue.get(environment, wish.collection);
  const scratch = environment.db.collection(`_was_${createHash('sha256').update(row.id).digest('hex').slice(0, 16)}`);
  await environment.db.run(`DROP TABLE IF EXISTS ${scratch}`);
  try {
    const side = wish.moment
      ? await fromFeed(environment, shape, scratch, new Date(wish.moment), tell)
      : await fromBackup(ground, row, environment, shape, scratch, tell);
    const condition = await conditionOf(ground, environment, side, wish);
    return await bringBack(environment, side, condition, wish, row.by, tell);
  } finally {
    await environment.db.run(`DROP TABLE IF EXISTS ${scratch}`);
    parts.changes.wake(environment.id);
  }
}

async function fromBackup(
  { places, keys }: Ground,
  row: RestoreRow,
  { db }: Environment,
  shape: CollectionShape,
  scratch: string,
  tell: Tell,
): Promise<Side> {
  await tell(`Reading ${shape.name} from the backup`);
  return places.with(async (place) => {
    const archive = new Archive(place, row);
    const opened = { archive, ...(await archive.open(row.backup, keys)) };
    demandReadable(opened.manifest);
    const table = opened.manifest.tables.find(({ name }) => name === shape.name);
    const structure = (await structuresOf(opened)).find(({ name }) => name === shape.name);
    if (!table || !structure)
      throw new Problem('not-found', `The backup of ${opened.manifest.at} has no collection \`${shape.name}\`: it was made later.`);
    await db.run(makingOf(structure, scratch, true).make);
    const loader = new TableLoader(db.server.url, opened.key, false);
    try {
      await fillTable(archive, table, scratch, loader);
    } finally {
      await loader.close();
    }
    const had = new Set(table.columns.map(({ name }) => name));
    const [kept, missing] = split([...shape.fields], ([name]) => had.has(name));
    const gone = [...had].filter((name) => !name.startsWith('_') && !SYSTEM.has(name) && !shape.fields.has(name));
    return {
      shape,
      scratch,
      fields: kept,
      notes: [
        ...(gone.length > 0
          ? [`The backup has ${gone.join(', ')}, which ${shape.name} does not have any more: those values are not restored.`]
          : []),
        ...(missing.length > 0
          ? [`${missing.map(([name]) => name).join(', ')} came later: of records that are there, those values stay.`]
          : []),
      ],
    };
  });
}

const SYSTEM = new Set(['id', 'createdAt', 'updatedAt', 'version', 'ownerId']);
const split = <T>(all: readonly T[], is: (one: T) => boolean): [T[], T[]] => [all.filter(is), all.filter((one) => !is(one))];

/** Records as they were at a moment, by the first change after it. Those that nobody changed since are as they are. */
async function fromFeed({ db }: Environment, shape: CollectionShape, scratch: string, moment: Date, tell: Tell): Promise<Side> {
  await tell(`Looking through the changes of ${shape.name}`);
  const feed = db.of(feedTable);
  const [oldest] = await db.rows<{ at: Date | null }>(`SELECT MIN(at) AS at FROM ${feed}`);
  if (oldest?.at && oldest.at > moment && moment > shape.createdAt)
    throw new Problem(
      'invalid-input',
      `The change feed reaches back to ${oldest.at.toISOString()}. For earlier moments restore from a backup.`,
      {
        fields: [{ path: 'body.moment', problem: 'Too long ago for the change feed.', expected: `${oldest.at.toISOString()} or later` }],
      },
    );
  await db.run(`CREATE TABLE ${scratch} LIKE ${shape.table}`);
  // Of those that did not exist at the moment there is a mark: they are no records of it.
  await db.run(`ALTER TABLE ${scratch} ADD COLUMN \`_wasNot\` BOOLEAN NOT NULL DEFAULT FALSE`);
  const forms = await formsOf(db, shape.name);
  let after = 0;
  for (;;) {
    const rows = await db.rows<{ entry: number; recordId: string; by: string; before: string | null }>(
      `SELECT f.entry, f.recordId, f.\`by\`, f.\`before\` FROM ${feed} f
       JOIN (SELECT MIN(entry) AS entry FROM ${feed} WHERE collection = ? AND at > ? GROUP BY recordId) l ON l.entry = f.entry
       WHERE f.entry > ? ORDER BY f.entry LIMIT ${SOME}`,
      [shape.name, moment, after],
    );
    if (rows.length === 0) break;
    after = Number(rows.at(-1)?.entry);
    const images = rows.flatMap(({ recordId, by, before }): Image[] => (before === null ? [] : [{ id: recordId, by, image: before }]));
    await writeImages(db, scratch, forms, images);
    const fresh = rows.filter(({ before }) => before === null).map(({ recordId }) => recordId);
    if (fresh.length > 0)
      await db.run(
        `INSERT INTO ${scratch} (id, createdAt, updatedAt, version, \`_wasNot\`) SELECT id, createdAt, updatedAt, version, TRUE FROM ${shape.table} WHERE id IN (?)`,
        [fresh],
      );
  }
  return { shape, scratch, fields: [...shape.fields], notes: [] };
}

type Condition = { sql: (table: string, alias: string) => string; values: unknown[] };

/** Which records are meant: by ids, by a filter over them as they were, or all. */
async function conditionOf({ parts }: Ground, environment: Environment, { shape }: Side, { filter, ids }: RecordsWish): Promise<Condition> {
  const shapes = await parts.catalogue.shapes(environment, shape.name);
  const rule: Rule | null = filter === null ? null : readRule(shapes, shape, filter);
  if (rule && 'broken' in rule) throw new Problem('malformed-filter', rule.broken);
  const sqlOf = (table: string, alias: string) => rule && ruleSql(shapes, { ...shape, table }, rule, alias);
  const one = sqlOf(shape.table, 'w');
  const slots = one ? bindSlots(one.slots, askingOf(THE_SERVICE_ITSELF, parts.now())) : [];
  return {
    sql: (table, alias) => [sqlOf(table, alias)?.sql, ids.length > 0 ? `${alias}.id IN (?)` : null].filter(Boolean).join(' AND ') || 'TRUE',
    values: [...slots, ...(ids.length > 0 ? [ids] : [])],
  };
}

async function bringBack(
  environment: Environment,
  side: Side,
  condition: Condition,
  wish: RecordsWish,
  by: string,
  tell: Tell,
): Promise<RecordsFound> {
  const { db } = environment;
  const { shape, scratch, notes } = side;
  const fromFeed = wish.moment !== null;
  const isRecord = fromFeed ? ' AND NOT w.`_wasNot`' : '';
  const wanted = await db.runRows<{ id: string }>(
    `SELECT w.id FROM ${scratch} w WHERE ${condition.sql(scratch, 'w')}${isRecord} ORDER BY w.id`,
    condition.values,
  );
  let [rows, pending] = [0, wanted.map(({ id }) => id)];
  const taken: string[] = [];
  // A record may refer to one that comes back later: those wait for the next round, as long as there is any progress.
  for (let before = pending.length + 1; pending.length > 0 && pending.length < before; ) {
    before = pending.length;
    const waiting: string[] = [];
    for (let at = 0; at < pending.length; at += SOME) {
      await tell(`Restoring ${shape.name}: ${rows} of ${wanted.length}`);
      const done = await writeSome(environment, side, pending.slice(at, at + SOME), by);
      rows += done.written;
      waiting.push(...done.left);
      taken.push(...done.taken);
    }
    pending = waiting;
  }
  const removed = wish.removeOthers ? await removeOthers(environment, side, condition, fromFeed, by, tell) : 0;
  return {
    rows: rows + removed,
    notes: [
      ...notes,
      ...(pending.length > 0 ? [`${named(pending)} refer to records that are gone, and were left out.`] : []),
      ...(taken.length > 0
        ? [`${named(taken)} have a value by now that must be unique and that another record has, and were left out.`]
        : []),
      ...(removed > 0 ? [`${removed} records that did not exist then were deleted.`] : []),
      `${rows} of ${wanted.length} records differed, and are as they were.`,
    ],
  };
}

const named = (ids: readonly string[]): string =>
  `${ids.length} records (${ids.slice(0, 5).join(', ')}${ids.length > 5 ? ' and more' : ''})`;

/** All together, or one by one where a unique value stands in the way. */
async function writeSome(environment: Environment, side: Side, ids: readonly string[], by: string): Promise<Written> {
  try {
    return await environment.db.server.transaction((on) => writeBack(on, environment, side, ids, by));
  } catch (error) {
    if (!isDuplicate(error)) throw error;
    if (ids.length === 1) return { written: 0, left: [], taken: [...ids] };
    const all: Written = { written: 0, left: [], taken: [] };
    for (const id of ids) {
      const one = await writeSome(environment, side, [id], by);
      all.written += one.written;
      all.left.push(...one.left);
      all.taken.push(...one.taken);
    }
    return all;
  }
}
type Written = { written: number; left: string[]; taken: string[] };

/** Records that differ get their values back, with the next version; those that are gone are there again. */
async function writeBack(on: Statements, environment: Environment, side: Side, ids: readonly string[], by: string): Promise<Written> {
  const { shape, scratch, fields } = side;
  const left = await danglingIn(on, environment, side, ids);
  const whole = ids.filter((id) => !left.has(id));
  if (whole.length === 0) return { written: 0, left: [...left], taken: [] };
  const names = fields.map(([name]) => `\`${name}\``);
  const differs = ['ownerId', ...fields.map(([name]) => name)].map((name) => `NOT (t.\`${name}\` <=> w.\`${name}\`)`).join(' OR ');
  const sets = fields.map(([name]) => `, t.\`${name}\` = w.\`${name}\``).join('');
  const places = fields.filter(([name]) => shape.indexed.places.has(name)).map(([name]) => `, ${spatialUpdateSql(name, 't.', 'w.')}`);
  const changed = await on.run(
    `UPDATE ${shape.table} t JOIN ${scratch} w ON w.id = t.id SET t.version = t.version + 1, t.updatedAt = UTC_TIMESTAMP(3), t.\`_by\` = ?, t.ownerId = w.ownerId${sets}${places.join('')}
     WHERE t.id IN (?) AND (${differs})`,
    [by, whole],
  );
  const version = `GREATEST(w.version, ${lastEndedSql(shape, 'w.id')}) + 1`;
  const made = await on.run(
    `INSERT INTO ${shape.table} (id, createdAt, updatedAt, version, ownerId, \`_by\`${names.map((name) => `, ${name}`).join('')})
     SELECT w.id, w.createdAt, UTC_TIMESTAMP(3), ${version}, w.ownerId, ?${names.map((name) => `, w.${name}`).join('')} FROM ${scratch} w
     WHERE w.id IN (?) AND NOT EXISTS (SELECT 1 FROM ${shape.table} t WHERE t.id = w.id)`,
    [by, whole],
  );
  return { written: changed.affectedRows + made.affectedRows, left: [...left], taken: [] };
}

/** Records that refer to something that is not there, and is not about to be. */
async function danglingIn(on: Statements, { db }: Environment, { scratch, fields }: Side, ids: readonly string[]): Promise<Set<string>> {
  const conditions = fields.flatMap(([name, field]) => {
    const target = targetOfField(field);
    if (!target) return [];
    const table = db.collection(target === 'users' ? '_users' : target);
    return [`(w.\`${name}\` IS NOT NULL AND w.\`${name}\` <> w.id AND NOT EXISTS (SELECT 1 FROM ${table} r WHERE r.id = w.\`${name}\`))`];
  });
  if (conditions.length === 0) return new Set();
  const rows = await on.runRows<{ id: string }>(`SELECT w.id FROM ${scratch} w WHERE w.id IN (?) AND (${conditions.join(' OR ')})`, [ids]);
  return new Set(rows.map(({ id }) => id));
}

async function removeOthers(
  { db }: Environment,
  { shape, scratch }: Side,
  condition: Condition,
  fromFeed: boolean,
  by: string,
  tell: Tell,
): Promise<number> {
  await tell(`Deleting records of ${shape.name} that did not exist then`);
  const wasNot = fromFeed
    ? `EXISTS (SELECT 1 FROM ${scratch} o WHERE o.id = w.id AND o.\`_wasNot\`)`
    : `NOT EXISTS (SELECT 1 FROM ${scratch} o WHERE o.id = w.id)`;
  const rows = await db.runRows<{ id: string }>(
    `SELECT w.id FROM ${shape.table} w WHERE ${condition.sql(shape.table, 'w')} AND ${wasNot}`,
    condition.values,
  );
  for (let at = 0; at < rows.length; at += SOME)
    await db.server.transaction(async (on) => {
      await on.run('SET @orchard_by := ?', [by]);
      await on.run(`DELETE FROM ${shape.table} WHERE id IN (?)`, [rows.slice(at, at + SOME).map(({ id }) => id)]);
    });
  return rows.length;
}
